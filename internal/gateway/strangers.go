package gateway

import (
	"context"
	"net"
	"sync"
	"time"
)

// Who has not proved yet who it is can be anybody: few such connections are kept, in all and
// from one address.
const (
	mostStrangers          = 256
	mostStrangersByAddress = 32
	// mostByKnownAddress is for one from which somebody has come in lately: who copies to fifty places
	// at once, or a team behind one address.
	mostByKnownAddress = 128
)

// strangers counts connections whose person is not known yet.
type strangers struct {
	mu  sync.Mutex
	all int
	by  map[string]int       // address
	in  map[string]time.Time // addresses from which somebody has come in, and when last
}

const (
	// rememberedFor is how long it is remembered that somebody came in from an address,
	// mostRemembered how many addresses are.
	rememberedFor  = 24 * time.Hour
	mostRemembered = 4096
)

func hostOf(a net.Addr) string {
	if t, isTCP := a.(*net.TCPAddr); isTCP {
		return t.IP.String()
	}
	return ""
}

// cameFrom notes that somebody has come in from an address.
func (s *strangers) cameFrom(a net.Addr) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.in == nil || len(s.in) >= mostRemembered {
		s.in = map[string]time.Time{}
	}
	s.in[hostOf(a)] = time.Now()
}

// cameIn tells whether somebody has come in from an address lately.
func (s *strangers) cameIn(a net.Addr) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, known := s.in[hostOf(a)]
	return known && time.Since(at) < rememberedFor
}

// come counts a connection until the returned function is called, which may be called
// again. ok is false where there are too many.
func (s *strangers) come(conn net.Conn) (known func(), ok bool) {
	from, most := hostOf(conn.RemoteAddr()), mostStrangersByAddress
	if s.cameIn(conn.RemoteAddr()) {
		most = mostByKnownAddress
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= mostStrangers || s.by[from] >= most {
		return nil, false
	}
	if s.by == nil {
		s.by = map[string]int{}
	}
	s.all++
	s.by[from]++
	return sync.OnceFunc(func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.all--
		if s.by[from]--; s.by[from] == 0 {
			delete(s.by, from)
		}
	}), true
}

// lockedEvery is how often it is looked whether somebody who is connected was locked, by another
// replica of the service, or is a guest whose time is over.
const lockedEvery = 15 * time.Second

// Dismiss ends the connections of an account.
func (s *Server) Dismiss(account int64) {
	s.mu.Lock()
	var ends []func()
	for end := range s.people[account] {
		ends = append(ends, *end)
	}
	s.mu.Unlock()
	for _, end := range ends {
		end()
	}
}

// watchLocked ends the connections of accounts that were locked, and of guests whose time is over,
// until ctx ends.
func (s *Server) watchLocked(ctx context.Context) {
	t := time.NewTicker(lockedEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		_ = s.TurnOut(ctx) // else it is looked again
		s.mu.Lock()
		var here []int64
		for account := range s.people {
			here = append(here, account)
		}
		s.mu.Unlock()
		if len(here) == 0 {
			continue
		}
		locked, err := s.Directory.Locked(ctx, here)
		if err != nil {
			continue // it is looked again
		}
		for _, account := range locked {
			s.Dismiss(account)
		}
	}
}
