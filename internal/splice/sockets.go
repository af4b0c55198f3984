//go:build linux

package splice

import (
	"errors"
	"io"
	"net"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// socket is a connection that the kernel can pass on without copying it.
type socket interface {
	net.Conn
	syscall.Conn
	CloseWrite() error
}

// Sockets joins two connections of this machine both ways until both have ended, as Both does. Where
// much comes, the kernel passes it on alone. passed is called whenever something has come.
func Sockets(a, b socket, passed func()) {
	var both sync.WaitGroup
	pass := func(to, from socket) {
		_ = passOn(to, from, passed) // either end of it is the end
		_ = to.CloseWrite()
	}
	both.Go(func() { pass(a, b) })
	both.Go(func() { pass(b, a) })
	both.Wait()
}

// passOn copies until the end, as Copy does.
func passOn(to, from socket, passed func()) error {
	small := make([]byte, idle)
	for {
		n, err := from.Read(small)
		if n > 0 {
			passed()
		}
		if err := pass(to, small[:n]); err != nil {
			return err
		}
		if err == nil && n == len(small) {
			err = passMuch(to, from, passed)
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// passMuch copies until little comes.
func passMuch(to, from socket, passed func()) error {
	large := buffers.Get().(*[busy]byte)
	defer buffers.Put(large)
	for copied := false; ; {
		n, err := from.Read(large[:])
		if n > 0 {
			passed()
		}
		if err := pass(to, large[:n]); err != nil {
			return err
		}
		if err != nil || n < idle {
			return err
		}
		if n < len(large) || copied {
			continue
		}
		switch err := byKernel(to, from, passed); {
		case errors.Is(err, errCopied):
			copied = true
		case err != nil:
			return err
		}
	}
}

// most is how many bytes are between the two sockets at most: as much as anybody may have in a pipe.
const most = 1 << 20

// errCopied is that the kernel does not pass on, for whatever reason: none of what has come is lost.
var errCopied = errors.New("the kernel passes nothing on here")

// byKernel has the kernel pass on what comes, until that is little: meanwhile it holds two descriptors.
func byKernel(to, from socket, passed func()) error {
	out, err := to.SyscallConn()
	if err != nil {
		return err
	}
	in, err := from.SyscallConn()
	if err != nil {
		return err
	}
	var pipe [2]int
	if err := unix.Pipe2(pipe[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
		return errCopied // there may be no descriptors left
	}
	defer unix.Close(pipe[0])
	defer unix.Close(pipe[1])
	_, _ = unix.FcntlInt(uintptr(pipe[1]), unix.F_SETPIPE_SZ, most) // a smaller one will do
	for {
		n, err := move(in.Read, func(fd int) (int64, error) { return unix.Splice(fd, nil, pipe[1], nil, most, splicing) })
		if refused(err) {
			return errCopied
		}
		if err != nil {
			return err
		}
		if n == 0 {
			return io.EOF
		}
		passed()
		for left := n; left > 0; {
			k, err := move(out.Write, func(fd int) (int64, error) { return unix.Splice(pipe[0], nil, fd, nil, int(left), splicing) })
			if refused(err) {
				if _, err := io.CopyN(to, pipeEnd(pipe[0]), left); err != nil {
					return err
				}
				return errCopied
			}
			if err != nil {
				return err
			}
			left -= k
		}
		if n < idle {
			return nil
		}
	}
}

// refused tells whether a call is one that is not allowed, or not known, for such descriptors.
func refused(err error) bool {
	return errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EPERM) || errors.Is(err, unix.EACCES)
}

// pipeEnd is a pipe from which as much is read as is in it.
type pipeEnd int

func (p pipeEnd) Read(b []byte) (int, error) { return unix.Read(int(p), b) }

const splicing = unix.SPLICE_F_MOVE | unix.SPLICE_F_NONBLOCK

// move waits, as a socket's own way of reading or writing does, until the kernel has moved something.
func move(when func(func(fd uintptr) bool) error, try func(fd int) (int64, error)) (n int64, err error) {
	waitErr := when(func(fd uintptr) bool {
		for err = unix.EINTR; err == unix.EINTR; {
			n, err = try(int(fd))
		}
		return err != unix.EAGAIN
	})
	if waitErr != nil {
		return 0, waitErr
	}
	return n, err
}
