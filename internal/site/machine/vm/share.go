package vm

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofrs/flock"

	"domicile/internal/channel"
)

// Several services of one host may have the same machines. A machine's ports are one's at a time:
// who has them lends the session to the others, by a socket in the machine's folder. Both are
// root's. Who ends lets go of the ports, and another one takes them.

// line is a way into a machine: a session of one's own, or one that is lent.
type line interface {
	Dial(ctx context.Context, to string) (net.Conn, error)
	// Over is closed when it is known to have ended.
	Over() <-chan struct{}
	Close()
}

const (
	lineLock   = "line.lock" // whose the ports are
	lineSocket = "line.sock" // by which the session is lent
)

// takeLine begins a session with the machine of a folder, or borrows that of another service.
func takeLine(ctx context.Context, folder string) (line, error) {
	lock := flock.New(filepath.Join(folder, lineLock), flock.SetPermissions(0o600))
	mine, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("look whose the ports of a machine are: %w", err)
	}
	if !mine {
		return borrowed{folder}, lock.Close()
	}
	session, err := openLine(ctx, folder)
	if err != nil {
		lock.Close()
		return nil, err
	}
	own := &ownLine{Line: session, lock: lock}
	if own.lends, err = lend(folder, session); err != nil {
		own.Close()
		return nil, err
	}
	go func() {
		<-session.Over()
		own.Close()
	}()
	return own, nil
}

// ownLine is a session of one's own, which is lent.
type ownLine struct {
	*channel.Line
	lock  *flock.Flock
	lends net.Listener
	once  sync.Once
}

// Close ends the session and lets go of the ports.
func (o *ownLine) Close() {
	o.once.Do(func() {
		if o.lends != nil {
			o.lends.Close()
		}
		o.Line.Close()
		o.lock.Close()
	})
}

// lend lets other services of this host use a session.
func lend(folder string, session *channel.Line) (net.Listener, error) {
	socket := filepath.Join(folder, lineSocket)
	if err := os.Remove(socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	listener, err := net.Listen("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("lend the session with a machine: %w", err)
	}
	if err := os.Chmod(socket, 0o600); err != nil {
		listener.Close()
		return nil, err
	}
	go func() {
		for {
			borrower, err := listener.Accept()
			if err != nil {
				return
			}
			go serveBorrower(borrower, session)
		}
	}()
	return listener, nil
}

// askLimit bounds how long a borrower takes to say what it wants, and the machine to open it.
const askLimit = 10 * time.Second

// mostWord bounds what a borrower says of what it wants, in bytes.
const mostWord = 200

func serveBorrower(borrower net.Conn, session *channel.Line) {
	defer borrower.Close()
	_ = borrower.SetDeadline(time.Now().Add(askLimit))
	asked := bufio.NewReaderSize(borrower, mostWord)
	word, err := asked.ReadSlice('\n')
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), askLimit)
	defer cancel()
	stream, err := session.Dial(ctx, strings.TrimSuffix(string(word), "\n"))
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

// borrowed is the session that another service of this host has.
type borrowed struct{ folder string }

// Dial opens a stream by it.
func (b borrowed) Dial(ctx context.Context, to string) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(b.folder, lineSocket))
	if err != nil {
		return nil, fmt.Errorf("borrow the session with a machine: %w", err)
	}
	if _, err := io.WriteString(conn, to+"\n"); err != nil {
		conn.Close()
		return nil, fmt.Errorf("borrow the session with a machine: %w", err)
	}
	return conn, nil
}

// Over is never closed: the end of a session that is lent shows in its streams.
func (b borrowed) Over() <-chan struct{} { return nil }

// Close gives it back.
func (b borrowed) Close() {}
