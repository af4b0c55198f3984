//go:build linux

package handed

import (
	"errors"
	"io"
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// Give hands descriptors over with some bytes, which are at least one. The giver's own stay open.
func Give(to *net.UnixConn, with []byte, fds ...int) error {
	_, _, err := to.WriteMsgUnix(with, unix.UnixRights(fds...), nil)
	return err
}

// WithDescriptor calls give with the descriptor of what is open here, which stays so meanwhile.
func WithDescriptor(what syscall.Conn, give func(fds ...int) error) error {
	raw, err := what.SyscallConn()
	if err != nil {
		return err
	}
	controlErr := raw.Control(func(fd uintptr) { err = give(int(fd)) })
	return errors.Join(controlErr, err)
}

// Take reads as many bytes as b has, and as many descriptors as are wanted that came with the first of
// them: of more, the kernel closes the rest. They are not judged yet, and there must be a place for them,
// also after an error.
func Take(from *net.UnixConn, b []byte, wanted int) (fds []int, err error) {
	rights := make([]byte, unix.CmsgLen(4*wanted)) // with its padding, CmsgSpace may have room for one more
	n, told, _, _, err := from.ReadMsgUnix(b, rights)
	if err != nil {
		return nil, err
	}
	fds = came(rights[:told])
	if n == 0 {
		err = io.EOF
	} else if n < len(b) {
		if _, err = io.ReadFull(from, b[n:]); errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
	}
	return fds, err
}

func came(told []byte) []int {
	messages, err := unix.ParseSocketControlMessage(told)
	if err != nil || len(messages) != 1 {
		return nil
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil {
		return nil
	}
	return fds
}
