package agentlink

import (
	"net"
	"sync/atomic"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/handed"
)

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
	c.link.use()
	return n, err
}

// Write says something to the program.
func (c handedConn) Write(b []byte) (int, error) {
	c.link.use()
	return c.TCP.Write(b)
}
