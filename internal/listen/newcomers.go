package listen

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"
)

// Newcomers bounds the connections whose sender is unknown, in all and by address prefix: an IPv4 address, or
// an IPv6 /64, because one host usually has a whole /64. When the total is reached, the oldest connection of
// the prefix with the most is closed for a new one: addresses that fill the room do so at their own cost.
// The zero value with its limits set is ready to use.
type Newcomers struct {
	Total    int
	ByPrefix int
	// ByTrusted is the limit for a prefix from which somebody signed in lately (Trust), such as a team behind
	// one address. 0: ByPrefix.
	ByTrusted int
	// Replace closes the oldest connection of a prefix that has too many, instead of rejecting the new one. For
	// protocols in which a sender proves itself at once.
	Replace bool
	// Exempt reports addresses that are not counted, such as a proxy that many people share. nil: none.
	Exempt func(netip.Addr) bool

	mu      sync.Mutex
	all     int
	by      map[netip.Prefix][]*newcomer // oldest first
	trusted map[netip.Prefix]time.Time
}

type newcomer struct {
	conn net.Conn
	from netip.Prefix
	done bool // guarded by Newcomers.mu
}

const (
	trustedFor = 24 * time.Hour
	maxTrusted = 4096
)

// Prefix is what an address counts as: an IPv4 address itself, an IPv6 /64. The zero prefix stands for all
// addresses that are not TCP.
func Prefix(a net.Addr) netip.Prefix {
	t, isTCP := a.(*net.TCPAddr)
	if !isTCP {
		return netip.Prefix{}
	}
	ip := t.AddrPort().Addr().Unmap().WithZone("")
	bits := 64
	if ip.Is4() {
		bits = 32
	}
	p, err := ip.Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// Admit counts a connection until leave is called, which may be called more than once. ok is false if the
// sender's prefix has too many already; the caller closes conn then.
func (n *Newcomers) Admit(conn net.Conn) (leave func(), ok bool) {
	from := Prefix(conn.RemoteAddr())
	if n.Exempt != nil && n.Exempt(from.Addr()) {
		return func() {}, true
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	switch {
	case len(n.by[from]) >= n.limit(from):
		if !n.Replace {
			return nil, false
		}
		n.closeOldest(from)
	case n.all >= n.Total:
		most := n.greatest()
		if most == from && !n.Replace {
			return nil, false
		}
		n.closeOldest(most)
	}
	if n.by == nil {
		n.by = map[netip.Prefix][]*newcomer{}
	}
	c := &newcomer{conn: conn, from: from}
	n.by[from] = append(n.by[from], c)
	n.all++
	return func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		n.remove(c)
	}, true
}

func (n *Newcomers) limit(from netip.Prefix) int {
	if at, known := n.trusted[from]; known && time.Since(at) < trustedFor {
		return max(n.ByTrusted, n.ByPrefix)
	}
	return n.ByPrefix
}

// greatest is the prefix with the most connections.
func (n *Newcomers) greatest() (most netip.Prefix) {
	for p, list := range n.by {
		if len(list) > len(n.by[most]) {
			most = p
		}
	}
	return most
}

func (n *Newcomers) closeOldest(of netip.Prefix) {
	if list := n.by[of]; len(list) > 0 {
		oldest := list[0]
		n.remove(oldest)
		go oldest.conn.Close() // TLS may want to write
	}
}

func (n *Newcomers) remove(c *newcomer) {
	if c.done {
		return
	}
	c.done = true
	n.all--
	n.by[c.from] = slices.DeleteFunc(n.by[c.from], func(x *newcomer) bool { return x == c })
	if len(n.by[c.from]) == 0 {
		delete(n.by, c.from)
	}
}

// Trust notes that somebody signed in from an address.
func (n *Newcomers) Trust(a net.Addr) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.trusted == nil || len(n.trusted) >= maxTrusted {
		n.trusted = map[netip.Prefix]time.Time{}
	}
	n.trusted[Prefix(a)] = time.Now()
}

// Trusts reports whether somebody signed in from an address within the last day.
func (n *Newcomers) Trusts(a net.Addr) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	at, known := n.trusted[Prefix(a)]
	return known && time.Since(at) < trustedFor
}

type contextKey struct{}

// Known stops the counting of the connection that a request came by: its sender is known now.
func Known(ctx context.Context) {
	if leave, ok := ctx.Value(contextKey{}).(func()); ok {
		leave()
	}
}

// Listener returns the connections of l that Admit admits and closes the others. A connection stops counting
// when it is closed, or when Known is called with the context of one of its requests.
func (n *Newcomers) Listener(l net.Listener) net.Listener { return &counted{l, n} }

type counted struct {
	net.Listener
	newcomers *Newcomers
}

// Accept waits for the next connection that may come in; others are closed.
func (l *counted) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		leave, ok := l.newcomers.Admit(conn)
		switch socket, isTCP := conn.(*net.TCPConn); {
		case !ok:
			conn.Close()
		case isTCP:
			return &countedConn{socket, leave}, nil
		default:
			leave()
			return conn, nil
		}
	}
}

// countedConn stops counting when it is closed. All else is the socket's own: net/http looks for its methods.
type countedConn struct {
	*net.TCPConn
	leave func()
}

// Close closes the connection.
func (c *countedConn) Close() error {
	c.leave()
	return c.TCPConn.Close()
}

// ConnContext is for http.Server: with it, Known finds the connection of a request.
func ConnContext(ctx context.Context, conn net.Conn) context.Context {
	if c, is := conn.(*countedConn); is {
		return context.WithValue(ctx, contextKey{}, c.leave)
	}
	return ctx
}
