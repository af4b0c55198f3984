// Package guesses slows down who guesses passwords, whatever they are for, and bounds how many are
// checked at a time.
package guesses

import (
	"context"
	"crypto/sha256"
	"net/netip"
	"sync"
	"time"

	"domicile/internal/fault"
)

// Wrong passwords are answered more and more slowly: some are anybody's slips, many are
// guesses. One address is slowed for whatever it tries; an account only a little, however
// many try it, so that nobody can keep its owner out.
const (
	freeTries       = 5 // of an address with an account
	freeByAddress   = 20
	freeByAccount   = 30
	longestWait     = 5 * time.Minute
	longestAccount  = 10 * time.Second
	triesForgotten  = 30 * time.Minute
	triesRemembered = 10_000
	// inLine bounds the passwords of one address that wait: they are checked one behind the
	// other, so that one address never takes the places of all others.
	inLine = 16
)

// tries counts wrong passwords.
type tries struct {
	wrong int
	last  time.Time
}

// Wait is how long the next try has to wait from the last one on.
func (t tries) wait(free int, longest time.Duration) time.Duration {
	if t.wrong < free {
		return 0
	}
	return min(longest, time.Second<<min(t.wrong-free, 20))
}

// Slowdown slows guesses down. It is shared by all who check passwords.
type Slowdown struct {
	now  func() time.Time
	mu   sync.Mutex
	seen map[string]tries     // by address, account, and both
	line map[string]*line     // of those that wait, by address
	told map[string]time.Time // when it was last noted that an address is slowed
	work chan struct{}        // a place for each password that is worked on at a time
}

// line is where the passwords of one address wait for their turn.
type line struct {
	turn chan struct{}
	long int
}

// atATime is how many passwords are worked on at a time: hashing takes much memory on purpose.
const atATime = 4

// New makes one that has seen nobody yet.
func New() *Slowdown {
	return &Slowdown{work: make(chan struct{}, atATime), now: time.Now, seen: map[string]tries{}, line: map[string]*line{}, told: map[string]time.Time{}}
}

// keys are what a try counts for, each with its bounds. A name may be anything of any length, so its digest counts;
// an IPv6 address counts as its /64, which one host usually has.
func keys(name, address string) map[string]struct {
	free    int
	longest time.Duration
} {
	digest := sha256.Sum256([]byte(name))
	name = string(digest[:])
	return map[string]struct {
		free    int
		longest time.Duration
	}{"both " + address + " " + name: {freeTries, longestWait}, "address " + address: {freeByAddress, longestWait}, "account " + name: {freeByAccount, longestAccount}}
}

// network is what an address counts as.
func network(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address[:min(len(address), 64)]
	}
	if a = a.Unmap().WithZone(""); a.Is4() {
		return a.String()
	}
	p, err := a.Prefix(64)
	if err != nil {
		return a.String()
	}
	return p.String()
}

// Work does work with a password, when it is its turn.
func (s *Slowdown) Work(ctx context.Context, work func()) error {
	select {
	case s.work <- struct{}{}:
		defer func() { <-s.work }()
		work()
		return nil
	case <-ctx.Done():
		return fault.New("too-busy", "try again in a moment", "Too many people sign in at this moment")
	}
}

// Begin tells how long a try must wait; where it need not, it has the turn of its address
// until end.
func (s *Slowdown) Begin(ctx context.Context, name, address string) (wait time.Duration, end func(), err error) {
	address = network(address)
	if wait = s.Wait(name, address); wait > 0 {
		return wait, nil, nil
	}
	s.mu.Lock()
	l := s.line[address]
	if l == nil {
		l = &line{turn: make(chan struct{}, 1)}
		s.line[address] = l
	}
	full := l.long >= inLine
	if !full {
		l.long++
	}
	s.mu.Unlock()
	leave := func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if l.long--; l.long == 0 {
			delete(s.line, address)
		}
	}
	busy := fault.New("too-busy", "try again in a moment", "From your address many passwords are being checked already")
	if full {
		return 0, nil, busy
	}
	select {
	case l.turn <- struct{}{}:
	case <-ctx.Done():
		leave()
		return 0, nil, busy
	}
	end = func() {
		<-l.turn
		leave()
	}
	if wait = s.Wait(name, address); wait > 0 { // those before were wrong
		end()
		return wait, nil, nil
	}
	return 0, end, nil
}

// Wait is how long a try must wait from now on.
func (s *Slowdown) Wait(name, address string) (wait time.Duration) {
	address = network(address)
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, bounds := range keys(name, address) {
		t := s.seen[key]
		wait = max(wait, t.last.Add(t.wait(bounds.free, bounds.longest)).Sub(s.now()))
	}
	return wait
}

// toldEvery is how often it is noted that an address is slowed: a flood of tries must not
// become a flood of notes.
const toldEvery = 10 * time.Second

// TellsAgain tells whether it is time to note that an address is slowed.
func (s *Slowdown) TellsAgain(address string) bool {
	address = network(address)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.now().Sub(s.told[address]) < toldEvery {
		return false
	}
	if len(s.told) >= triesRemembered {
		clear(s.told)
	}
	s.told[address] = s.now()
	return true
}

// Ended counts how a try went. Who is in has no wrong tries at this address.
func (s *Slowdown) Ended(name, address string, ok bool) {
	address = network(address)
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.now()
	if ok {
		delete(s.seen, "both "+address+" "+name)
		return
	}
	if len(s.seen) >= triesRemembered {
		for key, t := range s.seen {
			if now.Sub(t.last) > triesForgotten {
				delete(s.seen, key)
			}
		}
		if len(s.seen) >= triesRemembered { // a flood: the address still counts
			clear(s.seen)
		}
	}
	for key := range keys(name, address) {
		t := s.seen[key]
		if now.Sub(t.last) > triesForgotten {
			t = tries{}
		}
		s.seen[key] = tries{t.wrong + 1, now}
	}
}
