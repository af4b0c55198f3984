//go:build linux

package handed

import (
	"errors"
	"io"
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// Give hands a descriptor over with some bytes, which are at least one. The giver's own stays open.
func Give(to *net.UnixConn, with []byte, what syscall.Conn) error {
	raw, err := what.SyscallConn()
	if err != nil {
		return err
	}
	var sent error
	err = raw.Control(func(fd uintptr) { _, _, sent = to.WriteMsgUnix(with, unix.UnixRights(int(fd)), nil) })
	return errors.Join(err, sent)
}

// Take reads as many bytes as b has, and the descriptor that came with the first of them: -1 is none, and
// of several it is the first. It is not judged yet, and there must be a place for it, also after an error.
func Take(from *net.UnixConn, b []byte) (fd int, err error) {
	rights := make([]byte, unix.CmsgLen(4)) // with its padding, CmsgSpace would have room for two
	n, told, _, _, err := from.ReadMsgUnix(b, rights)
	if err != nil {
		return -1, err
	}
	fd = only(rights[:told])
	if n == 0 {
		err = io.EOF
	} else if n < len(b) {
		if _, err = io.ReadFull(from, b[n:]); errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
	}
	return fd, err
}

// only is the one descriptor that came; -1: none did.
func only(told []byte) int {
	messages, err := unix.ParseSocketControlMessage(told)
	if err != nil || len(messages) != 1 {
		return -1
	}
	descriptors, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(descriptors) != 1 {
		return -1
	}
	return descriptors[0]
}
