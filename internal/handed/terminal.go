//go:build linux

package handed

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// printedAtOnce is how much is taken at once of what a terminal prints, in bytes.
	printedAtOnce = 4 << 10
	// pipeSize is how large the pipes should be, in bytes. Each time that something is taken needs a page of
	// it; and the more there is, the longer takes each look into it.
	pipeSize = 128 << 10
	pageSize = 4 << 10
	// Longest is how much a Read may bring, in bytes, with what was read before.
	Longest = 2 * printedAtOnce
)

// closing is how long what was handed over may take to close before nobody waits for that any more.
const closing = time.Second

// Terminal is one that was handed over: the end of it by which one types and reads (pty(7)), and a pipe.
// What the terminal prints goes into the pipe first, from where it goes back to who handed it over. So
// nothing is lost with the service: what it has taken is in the pipe, which both have.
type Terminal struct {
	master *os.File
	kept   int    // the pipe that both have, to read and to write
	own    [2]int // a pipe for looking at what is in the other one
	times  int    // how often something is taken before it is given back
	place  *Place
	used   atomic.Bool

	limits sync.Mutex // held while it is said until when calls may wait
	over   bool       // they may not any more

	mu      sync.Mutex // held while something is taken or given back
	pending int        // bytes in the pipe that both have
	seen    int        // so many of them were read
	taken   int        // so often something was put into it
	closed  bool
}

// Terminal judges that two descriptors are a terminal and a pipe, and takes them. On an error the place
// is left.
func (p *Place) Terminal(fds []int) (*Terminal, error) {
	if err := judgeTerminal(fds); err != nil {
		p.Leave(fds...)
		return nil, err
	}
	t := &Terminal{kept: fds[1], place: p}
	if err := unix.Pipe2(t.own[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
		p.Leave(fds...)
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	t.times = min(enlarge(t.kept), enlarge(t.own[1])) / pageSize / 2
	if err := unix.SetNonblock(fds[0], true); err != nil { // by which the file knows what it can do
		p.Leave(append(fds, t.own[:]...)...)
		return nil, fmt.Errorf("take a terminal: %w", err)
	}
	t.master = os.NewFile(uintptr(fds[0]), "a terminal that was handed over")
	return t, nil
}

// enlarge makes a pipe as large as it should be, and tells how large it is: there may be limits.
func enlarge(pipe int) int {
	_, _ = unix.FcntlInt(uintptr(pipe), unix.F_SETPIPE_SZ, pipeSize)
	size, err := unix.FcntlInt(uintptr(pipe), unix.F_GETPIPE_SZ, 0)
	if err != nil {
		return 0
	}
	return size
}

// judgeTerminal tells whether the first one is a terminal's end by which one types, and the second a pipe
// to read and to write. Nothing that it calls asks a file system that is somebody's own.
func judgeTerminal(fds []int) error {
	if len(fds) != 2 {
		return fmt.Errorf("a terminal and a pipe were asked for: %w", errOther)
	}
	kind, device, err := known(fds[0])
	if err != nil || kind != unix.S_IFCHR || device != unix.Mkdev(5, 2) {
		return fmt.Errorf("a terminal was asked for: %w", errors.Join(errOther, err))
	}
	if _, err := unix.IoctlGetInt(fds[0], unix.TIOCGPTN); err != nil {
		return fmt.Errorf("a terminal was asked for: %w", errors.Join(errOther, err))
	}
	kind, _, err = known(fds[1])
	if err != nil || kind != unix.S_IFIFO {
		return fmt.Errorf("a pipe was asked for: %w", errors.Join(errOther, err))
	}
	mode, err := unix.FcntlInt(uintptr(fds[1]), unix.F_GETFL, 0)
	if err != nil || mode&unix.O_ACCMODE != unix.O_RDWR || mode&unix.O_PATH != 0 {
		return fmt.Errorf("a pipe to read and to write was asked for: %w", errors.Join(errOther, err))
	}
	return nil
}

// known is what the kernel itself knows of a descriptor.
func known(fd int) (kind uint32, device uint64, err error) {
	var s unix.Statx_t
	err = unix.Statx(fd, "", unix.AT_EMPTY_PATH|unix.AT_STATX_DONT_SYNC, unix.STATX_TYPE, &s)
	return uint32(s.Mode) & unix.S_IFMT, unix.Mkdev(s.Rdev_major, s.Rdev_minor), err
}

// Write types. It ends early, with os.ErrDeadlineExceeded or os.ErrClosed, where the terminal is given back
// meanwhile.
func (t *Terminal) Write(b []byte) (int, error) {
	t.used.Store(true)
	return t.master.Write(b)
}

// Read reads what the terminal prints, into b or a part of it. An error is that it has come to its end, that
// it is given back, or that it was idle for as long as it may be.
func (t *Terminal) Read(b []byte) (printed []byte, err error) {
	raw, err := t.master.SyscallConn()
	if err != nil {
		return nil, err
	}
	waitErr := raw.Read(func(fd uintptr) bool {
		printed, err = t.take(int(fd), b)
		return !errors.Is(err, unix.EAGAIN)
	})
	switch {
	case waitErr == nil:
		return printed, err
	case errors.Is(waitErr, os.ErrDeadlineExceeded):
		return nil, waitErr
	}
	return nil, os.ErrClosed
}

// take has the kernel put into the pipe what the terminal prints, and looks at it there.
func (t *Terminal) take(fd int, b []byte) ([]byte, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return nil, os.ErrClosed
	}
	if t.pending == t.seen {
		n, err := again(func() (int64, error) { return unix.Splice(fd, nil, t.kept, nil, printedAtOnce, unix.SPLICE_F_NONBLOCK) })
		if err != nil {
			return nil, fmt.Errorf("take what the terminal prints: %w", err)
		}
		if n == 0 {
			return nil, io.EOF
		}
		t.pending += n
		t.taken++
		t.used.Store(true)
	}
	n, err := again(func() (int64, error) {
		return unix.Tee(t.kept, t.own[1], min(t.pending, len(b)), unix.SPLICE_F_NONBLOCK)
	})
	if err == nil && n > t.seen {
		n, err = unix.Read(t.own[0], b[:n])
	}
	if err != nil || n <= t.seen {
		return nil, fmt.Errorf("look into the pipe, where others may read: %v", err)
	}
	printed := b[t.seen:n]
	t.seen = n
	return printed, nil
}

func again(call func() (int64, error)) (int, error) {
	for {
		if n, err := call(); err != unix.EINTR {
			return int(n), err
		}
	}
}

// Full tells whether what was read must be given back before more is.
func (t *Terminal) Full() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.seen >= printedAtOnce/2 || t.taken >= t.times
}

// Settle gives back what was read.
func (t *Terminal) Settle(to *net.UnixConn) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return nil // that was done with the rest
	}
	return t.settle(to, t.seen)
}

func (t *Terminal) settle(to *net.UnixConn, n int) error {
	raw, err := to.SyscallConn()
	if err != nil {
		return err
	}
	for n > 0 {
		k := 0
		waitErr := raw.Write(func(fd uintptr) bool {
			k, err = again(func() (int64, error) { return unix.Splice(t.kept, nil, int(fd), nil, n, unix.SPLICE_F_NONBLOCK) })
			return err != unix.EAGAIN
		})
		if err := errors.Join(waitErr, err); err != nil {
			return fmt.Errorf("give back what was printed: %w", err)
		}
		if k == 0 {
			return errTakenAway
		}
		n -= k
		t.pending -= k
		t.seen = max(0, t.seen-k)
	}
	t.taken = 0
	return nil
}

// errTakenAway is that who handed it over has taken what was in the pipe.
var errTakenAway = errors.New("what was in the pipe is gone")

// Idle has Read end when nothing is typed and printed for so long, from now on. It tells whether
// something was since the last call.
func (t *Terminal) Idle(limit time.Duration) bool {
	t.limits.Lock()
	defer t.limits.Unlock()
	if !t.over {
		_ = t.master.SetReadDeadline(time.Now().Add(limit))
	}
	return t.used.Swap(false)
}

// Interrupt ends a Read and a Write that wait; none waits any more after that.
func (t *Terminal) Interrupt() {
	t.limits.Lock()
	defer t.limits.Unlock()
	t.over = true
	_ = t.master.SetDeadline(time.Unix(1, 0))
}

// Interrupted tells whether it was.
func (t *Terminal) Interrupted() bool {
	t.limits.Lock()
	defer t.limits.Unlock()
	return t.over
}

// GiveBack gives back all that is left, and ends the stream: who handed the terminal over has it alone
// again. Only one may call it, and there may be a Read, a Write or a Settle that waits.
func (t *Terminal) GiveBack(to *net.UnixConn) {
	t.Interrupt()
	done := make(chan struct{})
	go func() {
		defer t.place.leave()
		t.mu.Lock()
		_ = t.settle(to, t.pending) // what cannot be given back, its other holder takes from the pipe
		t.closed = true
		t.mu.Unlock()
		_ = t.master.Close()
		for _, fd := range []int{t.kept, t.own[0], t.own[1]} {
			unix.Close(fd)
		}
		close(done)
	}()
	late := time.NewTimer(closing)
	defer late.Stop()
	select {
	case <-done:
	case <-late.C:
	}
	_ = to.Close()
}
