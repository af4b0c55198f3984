package webaddress

import (
	"context"
	"net"
	"sync"
	"time"

	"domicile/internal/agentlink"
	"domicile/internal/records"
	"domicile/internal/sshline"
)

// lines keep one connection to the agent of each workspace whose programs are asked.
type lines struct {
	reacher Reacher
	mu      sync.Mutex
	open    map[int64]*line
}

type line struct {
	sshline.Line[alone]
	users int
	going *time.Timer
}

// alone is a link through which each dials by a stream of its own, where that can be: requests and
// answers are many, and large.
type alone struct{ *agentlink.Link }

// DialContext connects to host:port as seen from inside.
func (a alone) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	return a.DialAlone(ctx, network, address)
}

// lineLingers is how long a connection to an agent stays that nobody uses.
const lineLingers = time.Minute

// dial connects to host:port as seen from inside.
func (l *lines) dial(ctx context.Context, w records.Workspace, target string) (net.Conn, error) {
	one := l.use(w)
	conn, err := one.Dial(ctx, target)
	if err != nil {
		l.leave(w, one)
		return nil, err
	}
	return &usedConn{Conn: conn, leave: sync.OnceFunc(func() { l.leave(w, one) })}, nil
}

func (l *lines) use(w records.Workspace) *line {
	l.mu.Lock()
	defer l.mu.Unlock()
	one := l.open[w.ID]
	if one == nil {
		one = &line{}
		one.Open = func(ctx context.Context) (alone, error) {
			link, err := l.reacher.Reach(ctx, w)
			if err != nil {
				return alone{}, err
			}
			return alone{link.Quiet()}, nil
		}
		l.open[w.ID] = one
	}
	if one.going != nil {
		one.going.Stop()
		one.going = nil
	}
	one.users++
	return one
}

func (l *lines) leave(w records.Workspace, one *line) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if one.users--; one.users > 0 {
		return
	}
	one.going = time.AfterFunc(lineLingers, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if one.users == 0 && l.open[w.ID] == one {
			delete(l.open, w.ID)
			one.Close()
		}
	})
}

func (l *lines) closeAll() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, one := range l.open {
		delete(l.open, id)
		one.Close()
	}
}

// usedConn tells when it is not used any more.
type usedConn struct {
	net.Conn
	leave func()
}

// NetConn is the connection below.
func (c *usedConn) NetConn() net.Conn { return c.Conn }

// Used says that something has passed that was not read here.
func (c *usedConn) Used() {
	if of, counts := c.Conn.(interface{ Used() }); counts {
		of.Used()
	}
}

// Close closes the connection.
func (c *usedConn) Close() error {
	c.leave()
	return c.Conn.Close()
}
