package vm

import (
	"context"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"sync"

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
		return borrowed{channel.Borrowed{Socket: filepath.Join(folder, lineSocket)}}, lock.Close()
	}
	session, err := openLine(ctx, folder)
	if err != nil {
		lock.Close()
		return nil, err
	}
	own := &ownLine{Line: session, lock: lock}
	if own.lends, err = channel.Lend(filepath.Join(folder, lineSocket), session); err != nil {
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
	lends io.Closer
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

// borrowed is the session that another service of this host has.
type borrowed struct{ channel.Borrowed }

// Over is never closed: the end of a session that is lent shows in its streams.
func (b borrowed) Over() <-chan struct{} { return nil }

// Close gives it back.
func (b borrowed) Close() {}
