package agentlink

import (
	"context"
	"errors"
	"net"
	"sync/atomic"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/handed"
)

// grant is what an agent has handed over, which is not judged yet. There is a place for it.
type grant struct {
	stream *net.UnixConn // by which more is said of it
	fds    []int
	place  *handed.Place
}

var errNoPlace = errors.New("there is no place for what is handed over")

// obtain asks the agent for one thing, which are so many descriptors. Who waits does not do so for what may
// have been handed over.
func (l *Link) obtain(ctx context.Context, kind string, extra []byte, want int) (grant, error) {
	if l.Again == nil || l.Place == nil || l.together.Load() {
		return grant{}, connection.ErrTogether
	}
	g := grant{place: l.Place()}
	if g.place == nil {
		return grant{}, errNoPlace
	}
	stream, err := l.Again(ctx)
	if err != nil {
		g.place.Leave()
		return grant{}, err
	}
	done := make(chan error, 1)
	go func() {
		var err error
		if g.fds, err = connection.DialAlone(stream, l.key, kind, extra, g.place, want); err != nil {
			stream.Close()
		} else {
			g.stream, _ = connection.Socket(stream)
		}
		done <- err
	}()
	select {
	case err := <-done:
		if errors.Is(err, connection.ErrTogether) {
			l.together.Store(true)
		}
		return g, err
	case <-ctx.Done():
		stream.Close()
		go func() {
			if err := <-done; err == nil {
				g.place.Leave(g.fds...)
			}
		}()
		return grant{}, ctx.Err()
	}
}

// usedEvery is how often an agent is told at most that what it handed over is used.
const usedEvery = time.Second

// use tells the agent of what it does not see.
type use struct {
	told  atomic.Int64 // when, in nanoseconds since 1970
	tells atomic.Bool
}

func (l *Link) use() {
	now := time.Now().UnixNano()
	told := l.used.told.Load()
	if now-told < int64(usedEvery) || !l.used.told.CompareAndSwap(told, now) || !l.used.tells.CompareAndSwap(false, true) {
		return
	}
	go func() { // nobody waits for an agent that does not listen
		defer l.used.tells.Store(false)
		_, _, _ = l.Conn.SendRequest(wire.Used, false, nil)
	}()
}

// handedConn is a connection that the agent handed over.
type handedConn struct {
	*handed.TCP
	link *Link
}

// NetConn is the socket itself. Who reads from it says so by Used.
func (c handedConn) NetConn() net.Conn { return c.TCPConn }

// Used says that something has passed.
func (c handedConn) Used() { c.link.use() }

// Read reads what the program says.
func (c handedConn) Read(b []byte) (int, error) {
	n, err := c.TCP.Read(b)
	if n > 0 { // the end is no use
		c.link.use()
	}
	return n, err
}

// Write says something to the program.
func (c handedConn) Write(b []byte) (int, error) {
	c.link.use()
	return c.TCP.Write(b)
}
