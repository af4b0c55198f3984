package agent

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/splice"
)

const (
	// handOverLimit is how long it may take until a terminal can be handed over: what is typed waits for that.
	handOverLimit = time.Second
	// lagLimit is how long of that the person may take to be told all that was printed. Who lags may be
	// about to stop a program that prints without end.
	lagLimit = 200 * time.Millisecond
	// longestWord is how long a word may be by which a session is named, in bytes.
	longestWord = 64
)

// holding is a session's part in its terminal, which the service may ask for.
type holding struct {
	terminal *terminal
	shown    *historyReader
	word     string        // as holdings have it
	over     bool          // they forget it
	gone     chan struct{} // closed when the person is gone

	mu      sync.Mutex
	typed   uint64
	changed chan struct{} // closed at the next change; nil: nobody waits
}

// Write types.
func (h *holding) Write(p []byte) (int, error) {
	var n int
	var err error
	h.terminal.hands.whileHere(func() { n, err = h.terminal.master.Write(p) })
	h.mu.Lock()
	defer h.mu.Unlock()
	h.typed += uint64(n)
	if h.changed != nil {
		close(h.changed)
		h.changed = nil
	}
	return n, err
}

// hasTyped waits until so many bytes have been typed.
func (h *holding) hasTyped(ctx context.Context, n uint64) error {
	for {
		h.mu.Lock()
		if h.typed >= n {
			h.mu.Unlock()
			return nil
		}
		if h.changed == nil {
			h.changed = make(chan struct{})
		}
		changed := h.changed
		h.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return errors.New("the program does not take what was typed")
		}
	}
}

// holdings are those of all sessions that have been named, by word.
type holdings struct {
	mu      sync.Mutex
	by      map[string]*holding
	changed chan struct{} // closed at the next change; nil: nobody waits
}

func (l *holdings) offer(word string, h *holding) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.by == nil {
		l.by = map[string]*holding{}
	}
	delete(l.by, h.word)
	if h.word = word; word != "" && !h.over {
		l.by[word] = h
	}
	if l.changed != nil {
		close(l.changed)
		l.changed = nil
	}
}

// forget ends what the service has of it.
func (l *holdings) forget(h *holding) {
	close(h.gone)
	l.mu.Lock()
	defer l.mu.Unlock()
	h.over = true // its word may still be on the way
	delete(l.by, h.word)
}

// find waits for one: the word goes another way than the question.
func (l *holdings) find(ctx context.Context, word string) *holding {
	for {
		l.mu.Lock()
		h := l.by[word]
		if l.changed == nil {
			l.changed = make(chan struct{})
		}
		changed := l.changed
		l.mu.Unlock()
		if h != nil {
			return h
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil
		}
	}
}

// said notes the word by which the service will ask for the session's terminal.
func (x *session) said(word string) {
	if len(word) > longestWord {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.word = word; x.held != nil {
		x.server.holdings.offer(word, x.held)
	}
}

// hold notes the session's part in a terminal.
func (x *session) hold(h *holding) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.held = h; x.word != "" {
		x.server.holdings.offer(x.word, h)
	}
}

// handOver gives the service the terminal of a session until either wants that to end.
func (s *Server) handOver(ctx context.Context, a *connection.Alone) {
	var q wire.HandOverRequest
	if ssh.Unmarshal(a.Extra, &q) != nil {
		_ = a.Reject(ssh.ConnectionFailed, "the request names no session")
		return
	}
	limited, cancel := context.WithTimeout(ctx, handOverLimit)
	defer cancel()
	h := s.holdings.find(limited, q.Word)
	if h == nil {
		_ = a.Reject(ssh.ConnectionFailed, "no terminal goes by this word")
		return
	}
	if err := h.handOver(limited, a, q.Typed, &s.use); err != nil {
		_ = a.Reject(ssh.ConnectionFailed, err.Error())
	}
}

var errHeld = errors.New("the terminal is in other hands")

// handOver gives an error as long as nothing was handed over.
func (h *holding) handOver(limited context.Context, a *connection.Alone, typed uint64, use *use) error {
	t := h.terminal
	if err := h.hasTyped(limited, typed); err != nil {
		return err
	}
	if !t.hands.give(a.Hurry) {
		return errHeld
	}
	defer t.hands.back()
	resume, err := t.hands.pause(limited, t)
	if err != nil {
		return err
	}
	defer resume()
	lagging, cancel := context.WithTimeout(limited, lagLimit)
	defer cancel()
	shown, err := h.shown.hold(lagging)
	if err != nil {
		return err
	}
	defer h.shown.release()
	pipe, err := bothWays()
	if err != nil {
		return err
	}
	defer unix.Close(pipe)
	select {
	case <-t.process.done:
		return io.EOF
	default:
	}
	stream, err := a.Stream, os.ErrClosed
	t.master.control(func(fd int) { err = a.Grant(fd, pipe) })
	if err == nil {
		_, err = stream.Write(binary.BigEndian.AppendUint64(nil, uint64(shown)))
	}
	if err != nil {
		return nil // who asked is gone
	}
	t.master.sleep()
	defer func() {
		if err := t.master.wake(); err != nil {
			t.process.signalGroup(syscall.SIGHUP) // nobody can read it any more
		}
	}()
	over := make(chan struct{})
	defer close(over)
	go func() {
		select {
		case <-over:
			return
		case <-t.process.done:
		case <-h.gone:
		}
		a.Hurry()
	}()
	printed := usedOutput{t.output, use}
	_ = splice.Copy(printed, stream)
	_, _ = io.Copy(printed, leftIn(pipe))
	return nil
}

// bothWays is a pipe that is read and written by one descriptor.
func bothWays() (fd int, err error) {
	var ends [2]int
	if err := unix.Pipe2(ends[:], unix.O_CLOEXEC); err != nil {
		return -1, fmt.Errorf("make a pipe: %w", err)
	}
	defer unix.Close(ends[0])
	defer unix.Close(ends[1])
	fd, err = unix.Open(fmt.Sprintf("/proc/self/fd/%d", ends[0]), unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return -1, fmt.Errorf("open a pipe both ways: %w", err)
	}
	return fd, nil
}

// leftIn reads what is in a pipe, and ends where nothing is.
type leftIn int

// Read reads some of it.
func (l leftIn) Read(p []byte) (int, error) {
	n, err := unix.Read(int(l), p)
	if err != nil || n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

// usedOutput notes a use with all that is printed, unless it is what the service has told.
type usedOutput struct {
	io.Writer
	use *use
}

// Write notes and writes.
func (u usedOutput) Write(p []byte) (int, error) {
	u.use.printed()
	return u.Writer.Write(p)
}
