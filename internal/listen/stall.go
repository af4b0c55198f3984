//go:build linux

package listen

import (
	"errors"
	"net"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// StallLimit returns a net.ListenConfig.Control by which the kernel ends a connection whose other side has not
// acknowledged anything for a while, also because it does not read (TCP_USER_TIMEOUT, RFC 5482; Linux applies it to
// the probes of a closed window too). It costs nothing where data flows.
func StallLimit(limit time.Duration) func(network, address string, c syscall.RawConn) error {
	return func(_, _ string, c syscall.RawConn) error { return setStallLimit(c, limit) }
}

// MayStall takes the limit away from a connection: somebody may stop a program at the other end for hours.
func MayStall(conn net.Conn) error {
	socket, ok := conn.(syscall.Conn)
	if !ok {
		return nil
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return err
	}
	return setStallLimit(raw, 0)
}

func setStallLimit(c syscall.RawConn, limit time.Duration) error {
	var set error
	err := c.Control(func(fd uintptr) {
		set = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(limit.Milliseconds()))
	})
	return errors.Join(err, set)
}
