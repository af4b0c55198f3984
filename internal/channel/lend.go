package channel

import (
	"bufio"
	"context"
	"domicile/internal/listen"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"domicile/internal/fault"
)

// A machine has one session at a time. Where several services of one host use the machine, who has
// the session lends it to the others, by a socket that is for the user of the services alone.

// lendLimit bounds how long a borrower takes to say what it wants, and the machine to open it.
const lendLimit = 10 * time.Second

// Lend lets whoever may connect to a socket open streams of a session, until that is over or it is
// closed. What an earlier one left at the socket's place is replaced.
func Lend(socket string, line *Line) (io.Closer, error) {
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("lend the session with a machine: %w", err)
	}
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: socket, Net: "unix"})
	if err != nil {
		return nil, fmt.Errorf("lend the session with a machine: %w", err)
	}
	listener.SetUnlinkOnClose(false) // another service may lend there by then
	own, err := os.Lstat(socket)
	if err == nil {
		err = os.Chmod(socket, 0o600)
	}
	if err != nil {
		listener.Close()
		return nil, fmt.Errorf("lend the session with a machine: %w", err)
	}
	l := &lender{Listener: listener, socket: socket, own: own}
	go func() {
		<-line.Over()
		l.Close()
	}()
	go func() {
		accepting := listen.Patient(listener)
		for {
			borrower, err := accepting.Accept()
			if err != nil {
				return
			}
			go lend(borrower, line)
		}
	}()
	return l, nil
}

// lender lends until it is closed.
type lender struct {
	net.Listener
	socket string
	own    fs.FileInfo // of the socket that it made
	once   sync.Once
}

// Close ends it, and takes its socket away, unless another one lends there by now.
func (l *lender) Close() (err error) {
	l.once.Do(func() {
		err = l.Listener.Close()
		if now, statErr := os.Lstat(l.socket); statErr == nil && os.SameFile(now, l.own) {
			_ = os.Remove(l.socket) // one that stays is refused, and replaced
		}
	})
	return err
}

func lend(borrower net.Conn, line *Line) {
	defer borrower.Close()
	_ = borrower.SetDeadline(time.Now().Add(lendLimit))
	asked := bufio.NewReaderSize(borrower, mostLine)
	word, err := asked.ReadSlice('\n')
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), lendLimit)
	defer cancel()
	stream, err := line.Dial(ctx, strings.TrimSuffix(string(word), "\n"))
	if err != nil {
		return
	}
	defer stream.Close()
	_ = borrower.SetDeadline(time.Time{})
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(stream, asked)
		stream.Close()
	})
	both.Go(func() {
		_, _ = io.Copy(borrower, stream)
		borrower.Close()
	})
	both.Wait()
}

// Borrowed is a session that another service lends at a socket.
type Borrowed struct{ Socket string }

// Dial opens a stream to what a word means in the machine.
func (b Borrowed) Dial(ctx context.Context, to string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", b.Socket)
	if err != nil {
		return nil, notLent(err)
	}
	if _, err := io.WriteString(conn, to+"\n"); err != nil {
		conn.Close()
		return nil, notLent(err)
	}
	return conn, nil
}

// Lent tells whether anybody lends a session at the socket: one that was killed leaves its socket behind.
func (b Borrowed) Lent() bool {
	conn, err := net.Dial("unix", b.Socket)
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

// notLent is the end of another service that had the session, or of the session: both pass.
func notLent(err error) error {
	return fault.Transient(err, "machine-silent", "", "the service that has the session with the machine does not lend it")
}
