package webaddress

import (
	"context"
	"domicile/internal/listen"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"domicile/internal/agentlink"
	"domicile/internal/guesses"
	"domicile/internal/records"
)

// Directory is what is asked about addresses, workspaces and people.
type Directory interface {
	WebAddressByLabel(ctx context.Context, label string) (records.WebAddress, error)
	Workspace(ctx context.Context, id int64) (records.Workspace, error)
	TakeWebTicket(ctx context.Context, hash []byte, address int64) (records.Credential, error)
	// Ended returns those credentials that no longer count.
	Ended(ctx context.Context, credentials []records.Credential) ([]records.Credential, error)
}

// Reacher opens connections to agents.
type Reacher interface {
	Reach(ctx context.Context, w records.Workspace) (*agentlink.Link, error)
}

// Options says what addresses stand on.
type Options struct {
	Directory Directory
	Reacher   Reacher
	// Domain is what host names end with, such as localhost or apps.skerry.test.
	Domain string
	// Scheme and Port are those of the URLs that people are given; no port: the scheme's own.
	Scheme, Port string
	// Console is the console's URL, where people sign in.
	Console string
	// Secret signs the cookies of who came in.
	Secret []byte
	// Guesses slows down who guesses the password of a link.
	Guesses *guesses.Slowdown
	Log     *slog.Logger
}

// Server serves web addresses.
type Server struct {
	o     Options
	found *expirable.LRU[string, place] // by label
	ended *expirable.LRU[records.Credential, bool]
	shown *expirable.LRU[string, visit] // by what a browser shows
	lines lines
	// broken hears of answers that broke off, which is what visitors do.
	broken *log.Logger

	mu         sync.Mutex
	transports *expirable.LRU[transportKey, *carrier]
	live       map[string]map[*visit]bool // requests that are being answered, by label
}

// place is what a host name means.
type place struct {
	address   records.WebAddress
	workspace records.Workspace
}

const (
	// knownFor is how long what an address means is taken for true without looking: a change made at
	// another replica counts after it.
	knownFor  = time.Second
	mostKnown = 10_000
	// shownFor is how long what a browser shows is remembered, and mostShown how many that are.
	shownFor  = time.Minute
	mostShown = 2_000
	// checkEvery is how often open requests are checked for it.
	checkEvery = 500 * time.Millisecond
)

// New makes a server that ends with ctx.
func New(ctx context.Context, o Options) *Server {
	s := &Server{o: o, found: expirable.NewLRU[string, place](mostKnown, nil, knownFor), ended: expirable.NewLRU[records.Credential, bool](mostKnown, nil, knownFor), shown: expirable.NewLRU[string, visit](mostShown, nil, shownFor), broken: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug), lines: lines{reacher: o.Reacher, open: map[int64]*line{}}, live: map[string]map[*visit]bool{}}
	go s.check(ctx)
	context.AfterFunc(ctx, s.lines.closeAll)
	return s
}

// Label is the first part of a host name that is a web address.
func (s *Server) Label(host string) (string, bool) {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	label, isOne := strings.CutSuffix(strings.ToLower(strings.TrimSuffix(host, ".")), "."+s.o.Domain)
	return label, s.o.Domain != "" && isOne && label != "" && !strings.Contains(label, ".")
}

// URL is where an address is, with a path below it.
func (s *Server) URL(label, path string) string {
	host := label + "." + s.o.Domain
	if s.o.Port != "" {
		host = net.JoinHostPort(host, s.o.Port)
	}
	return s.o.Scheme + "://" + host + path
}

// Forget has what an address means looked up anew, and ends what goes on there.
func (s *Server) Forget(label string) {
	s.found.Remove(label)
	s.mu.Lock()
	defer s.mu.Unlock()
	for v := range s.live[label] {
		v.end()
	}
}

func (s *Server) find(ctx context.Context, label string) (place, error) {
	if p, known := s.found.Get(label); known {
		return p, nil
	}
	a, err := s.o.Directory.WebAddressByLabel(ctx, label)
	if err != nil {
		return place{}, err
	}
	w, err := s.o.Directory.Workspace(ctx, a.Workspace)
	if err != nil {
		return place{}, err
	}
	p := place{a, w}
	s.found.Add(label, p)
	return p, nil
}

// ServeHTTP answers at a web address.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	label, _ := s.Label(r.Host)
	p, err := s.find(r.Context(), label)
	if errors.Is(err, records.ErrNotFound) {
		say(w, r, notice{status: http.StatusNotFound, title: "There is no such address", text: "It was taken away, or its workspace was removed.", console: s.o.Console})
		return
	}
	if err != nil {
		s.o.Log.Warn("find a web address", "error", err)
		say(w, r, notice{status: http.StatusServiceUnavailable, title: "Not just now", text: "Domicile's database does not answer.", again: true})
		return
	}
	if r.URL.Path == enterPath {
		s.enter(w, r, p)
		return
	}
	v, in := s.admitted(r, p)
	if !in {
		s.turnAway(w, r, p)
		return
	}
	listen.Known(r.Context())
	if !s.mayCall(r, p) {
		say(w, r, notice{status: http.StatusForbidden, title: "Not from there", text: "A page of another address may not call this one."})
		return
	}
	if p.workspace.State != records.Ready {
		say(w, r, notice{status: http.StatusServiceUnavailable, title: p.workspace.Name + " is " + p.workspace.State, text: "This page goes on by itself when it runs.", command: "domicile start " + p.workspace.Name, console: s.o.Console + "/workspaces/" + p.workspace.Name, again: true})
		return
	}
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	v.label, v.end = label, cancel
	leave, ok := s.come(&v)
	if !ok {
		say(w, r, notice{status: http.StatusServiceUnavailable, title: "Too much at once", text: fmt.Sprintf("%d requests go on at this address already.", mostLive), again: true})
		return
	}
	defer leave()
	// An answer may come before the request ends, such as 413 to a large upload. HTTP/2 always does that.
	_ = http.NewResponseController(w).EnableFullDuplex()
	visitor := &flushing{ResponseWriter: w}
	s.proxy(p, visitor, r).ServeHTTP(visitor, r.WithContext(ctx))
}

// mostLive is how many requests go on at one address: whoever has a link can send any number.
const mostLive = 500

// come counts a request that goes on, until leave is called.
func (s *Server) come(v *visit) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	here := s.live[v.label]
	if len(here) >= mostLive {
		return nil, false
	}
	if here == nil {
		here = map[*visit]bool{}
		s.live[v.label] = here
	}
	here[v] = true
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if delete(here, v); len(here) == 0 {
			delete(s.live, v.label)
		}
	}, true
}

// check ends the requests that go on of visitors who may not be in any more, such as the connection of a page that
// stays open, until ctx ends.
func (s *Server) check(ctx context.Context) {
	tick := time.NewTicker(checkEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		s.mu.Lock()
		var live []*visit
		for _, here := range s.live {
			live = slices.AppendSeq(live, maps.Keys(here))
		}
		s.mu.Unlock()
		for _, v := range live {
			p, err := s.find(ctx, v.label)
			if errors.Is(err, records.ErrNotFound) || err == nil && (!v.valid(p) || s.hasEnded(ctx, *v)) {
				v.end()
			}
		}
	}
}

// hasEnded reports whether the credential that a visitor came in by has ended. While the database does not answer,
// the visitor stays.
func (s *Server) hasEnded(ctx context.Context, v visit) bool {
	if v.Account == 0 {
		return false
	}
	by := records.Credential{Account: v.Account, Token: string(v.Token)}
	if ended, known := s.ended.Get(by); known {
		return ended
	}
	list, err := s.o.Directory.Ended(ctx, []records.Credential{by})
	if err == nil {
		s.ended.Add(by, len(list) > 0)
	}
	return err == nil && len(list) > 0
}
