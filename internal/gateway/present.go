package gateway

import (
	"context"
	"maps"
	"slices"
	"time"

	"domicile/internal/fault"
	"domicile/internal/records"
)

// Limits of connections that have not proved yet whose they are (listen.Newcomers).
const (
	maxNewcomers          = 256
	maxNewcomersByPrefix  = 32
	maxNewcomersByTrusted = 128 // somebody copies to fifty hosts at once, or a team sits behind one address
)

// maxPerAccount is how many connections an account has at a time: SSH, terminals, screens and event streams.
const maxPerAccount = 1000

// checkInterval is how often the gateway asks whether the credentials of those who are connected still count.
const checkInterval = time.Second

// connections are open connections by what they were opened with. Each value ends one.
type connections map[records.Credential]map[*func()]bool

func (c connections) count(account int64) (n int) {
	for credential, ends := range c {
		if credential.Account == account {
			n += len(ends)
		}
	}
	return n
}

// Opened notes a connection that was opened with a credential until closed is called. end ends the connection; it
// is called when the credential ends, within about checkInterval, at whatever replica it was ended.
func (s *Server) Opened(by records.Credential, end func()) (closed func(), err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open.count(by.Account) >= maxPerAccount {
		return nil, fault.New("too-busy", "close some of them", "You have %d connections open already", maxPerAccount)
	}
	if s.open == nil {
		s.open = connections{}
	}
	if s.open[by] == nil {
		s.open[by] = map[*func()]bool{}
	}
	s.open[by][&end] = true
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if delete(s.open[by], &end); len(s.open[by]) == 0 {
			delete(s.open, by)
		}
	}, nil
}

// watch ends the connections whose credential has ended, and those of guests whose invitation has, until ctx ends.
func (s *Server) watch(ctx context.Context) {
	t := time.NewTicker(checkInterval)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		// An error means that the database does not answer: the next round asks again.
		_ = s.TurnOut(ctx)
		_ = s.EndRevoked(ctx)
	}
}

// EndRevoked ends the connections whose credential has ended.
func (s *Server) EndRevoked(ctx context.Context) error {
	s.mu.Lock()
	here := slices.Collect(maps.Keys(s.open))
	s.mu.Unlock()
	if len(here) == 0 {
		return nil
	}
	ended, err := s.Directory.Ended(ctx, here)
	if err != nil {
		return err
	}
	s.mu.Lock()
	var ends []func()
	for _, credential := range ended {
		for end := range s.open[credential] {
			ends = append(ends, *end)
		}
	}
	s.mu.Unlock()
	for _, end := range ends {
		end()
	}
	return nil
}
