package cloud

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"domicile/internal/callhome"
	"domicile/internal/channel"
	"domicile/internal/site/machine"
)

// Lines are the sessions with all instances that have called.
type Lines struct {
	ledger Ledger
	secret []byte // of the proofs
	folder string // where sessions are lent to the other services of this host; empty: they are not

	mu      sync.Mutex
	byToken map[string]*channel.Line
	came    chan struct{} // closed when one comes
}

// NewLines makes lines to the instances of a ledger. Services of one host that share a folder lend
// each other their sessions: an instance calls one of them. Its path must be short: sockets are in
// it. Empty: they are not lent.
func NewLines(ledger Ledger, secret []byte, folder string) *Lines {
	return &Lines{ledger: ledger, secret: secret, folder: folder, byToken: map[string]*channel.Line{}, came: make(chan struct{})}
}

// Admit tells whether a call is that of an instance which was ordered: the first time by its
// proof, then by its key.
func (l *Lines) Admit(ctx context.Context, c callhome.Call) error {
	r, found, err := l.ledger.ByToken(ctx, c.Token)
	if err != nil {
		return err
	}
	if !found || r.Ended != nil || r.Leaving {
		return errors.New("nobody ordered an instance that says this")
	}
	if len(r.Key) == 0 && !hmac.Equal(c.Proof, Proof(l.secret, c.Token)) {
		return errors.New("it has not the proof of its order")
	}
	mine, err := l.ledger.Admit(ctx, c.Token, c.Key)
	if err == nil && !mine {
		err = errors.New("it has another key than at its first call")
	}
	return err
}

// Take begins a session with an instance that was admitted; one of before is over.
func (l *Lines) Take(c callhome.Call, conn net.Conn) {
	line, err := channel.Called(conn)
	if err != nil {
		conn.Close()
		return
	}
	l.lend(c.Token, line)
	l.mu.Lock()
	defer l.mu.Unlock()
	if before := l.byToken[c.Token]; before != nil {
		before.Close()
	}
	l.byToken[c.Token] = line
	close(l.came)
	l.came = make(chan struct{})
}

// lend lends a session until it is over. One that cannot be lent serves this process alone.
func (l *Lines) lend(token string, line *channel.Line) {
	if l.folder == "" || os.MkdirAll(l.folder, 0o700) != nil {
		return
	}
	_, _ = channel.Lend(l.socket(token), line)
}

// socket is where the session with the instance of an order is lent.
func (l *Lines) socket(token string) string {
	sum := sha256.Sum256([]byte(token))
	return filepath.Join(l.folder, hex.EncodeToString(sum[:8]))
}

// get gives the session with the instance of an order, this service's own or one that is lent; nil:
// there is none.
func (l *Lines) get(token string) machine.Line {
	if own := l.own(token); own != nil {
		return own
	}
	if l.folder == "" {
		return nil
	}
	if b := (channel.Borrowed{Socket: l.socket(token)}); b.Lent() {
		return b
	}
	return nil
}

// own gives this service's own session with the instance of an order; nil: there is none.
func (l *Lines) own(token string) *channel.Line {
	l.mu.Lock()
	defer l.mu.Unlock()
	line := l.byToken[token]
	if line == nil {
		return nil
	}
	select {
	case <-line.Over():
		delete(l.byToken, token)
		return nil
	default:
		return line
	}
}

// wait waits until the instance of an order has called anew, or another moment has passed.
func (l *Lines) wait(ctx context.Context, token string, most time.Duration) {
	over := time.After(most)
	before := l.own(token)
	for {
		l.mu.Lock()
		came, now := l.came, l.byToken[token]
		l.mu.Unlock()
		if now != before && now != nil {
			return
		}
		select {
		case <-came:
		case <-over:
			return
		case <-ctx.Done():
			return
		}
	}
}

// drop ends the session with the instance of an order.
func (l *Lines) drop(token string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if line := l.byToken[token]; line != nil {
		line.Close()
		delete(l.byToken, token)
	}
}
