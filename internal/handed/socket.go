//go:build linux

package handed

import (
	"errors"
	"fmt"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// errOther is that a descriptor is not what was asked for.
var errOther = errors.New("what was handed over is something else")

// TCP is a connection that was handed over.
type TCP struct {
	*net.TCPConn
	place *Place
}

// Connection judges that a descriptor is a TCP connection, and takes it. On an error the place is left.
func (p *Place) Connection(fd int) (*TCP, error) {
	for option, allowed := range map[int][]int{
		unix.SO_DOMAIN:   {unix.AF_INET, unix.AF_INET6},
		unix.SO_TYPE:     {unix.SOCK_STREAM},
		unix.SO_PROTOCOL: {unix.IPPROTO_TCP},
	} {
		is, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, option)
		if err != nil || is != allowed[0] && is != allowed[len(allowed)-1] {
			p.Leave(fd)
			return nil, fmt.Errorf("a TCP connection was asked for: %w", errors.Join(errOther, err))
		}
	}
	own, err := unix.FcntlInt(uintptr(fd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		p.Leave(fd)
		return nil, fmt.Errorf("take a connection: %w", err)
	}
	file := os.NewFile(uintptr(own), "handed over")
	conn, err := net.FileConn(file)
	file.Close()
	if err != nil {
		p.Leave(fd)
		return nil, fmt.Errorf("take a connection: %w", err)
	}
	unix.Close(fd) // it is not the last one
	return &TCP{conn.(*net.TCPConn), p}, nil
}

// Close ends the connection, and does not wait for that. Who waits for it to be read or written is told
// of the end, whatever the other holder has made of it.
func (c *TCP) Close() error {
	go func() {
		defer c.place.leave()
		if raw, err := c.SyscallConn(); err == nil {
			_ = raw.Control(func(fd uintptr) {
				_ = unix.Shutdown(int(fd), unix.SHUT_RDWR)
				_ = unix.SetsockoptLinger(int(fd), unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{})
			})
		}
		_ = c.TCPConn.Close()
	}()
	return nil
}
