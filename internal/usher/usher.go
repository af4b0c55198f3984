package usher

import (
	"context"
	"domicile/internal/fault"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"domicile/internal/client"
	"domicile/internal/sshline"
)

// Service is what the usher asks of the service.
type Service interface {
	// Workspaces lists those of the account, and their helpers.
	Workspaces(ctx context.Context) ([]client.Workspace, error)
	Ports(ctx context.Context, workspace string) (client.Ports, error)
	// Events calls f for each change until ctx ends or the connection breaks.
	Events(ctx context.Context, f func(client.Event)) error
	SSH(ctx context.Context, workspace string) (*ssh.Client, error)
	// LongSSH opens one that outlives the connections which carry it.
	LongSSH(ctx context.Context, workspace string) (*ssh.Client, error)
}

// Options says what an usher works with.
type Options struct {
	Service Service
	// Address is the service's, as people know it.
	Address string
	Suffix  string
	// Memory is a file in which the usher keeps which port was where.
	Memory string
	// Decisions is a file in which the usher keeps what the person has decided; empty: nothing is kept.
	Decisions string
	// Say tells the person something, in one line.
	Say func(string)
	// Machine is what may be done at the person's machine.
	Machine Machine
	// OwnNumbers are ports of usual servers (IsUsual) that workspaces may have at their own number.
	OwnNumbers []int
}

// Usher keeps a person's ports.
type Usher struct {
	o Options
	// listenAt has a port of this machine's loopback.
	listenAt func(ctx context.Context, port int) ([]net.Listener, error)

	since time.Time
	wake  chan struct{}

	mu        sync.Mutex
	streaming bool            // changes are heard of
	reason    string          // why they are not, or why what has changed could not be learned
	stale     map[string]bool // workspaces that have changed; "": all of them
	places    map[string]*place
	unlisted  error // why the workspaces could not be, the last time
	doors     map[string]*door
	refused   map[string]Taken
	moved     chan struct{} // closed, and made anew, when ports have come or gone
	memory    memory
	consent   consent
	lenders   sync.WaitGroup
	said      map[string]time.Time // when something was last said of a port
	talk      map[string]*pace     // by workspace
}

// place is a workspace.
type place struct {
	state   string
	made    time.Time
	epoch   string                     // what was decided in another one does not count (Decision.Epoch)
	line    *sshline.Line[*ssh.Client] // on which programs inside find the usher: it ends with the usher
	streams *sshline.Line[*ssh.Client] // which carries what goes through the ports, also across a cut of the network
	ports   []client.Port
	known   bool
	unasked error // why they could not be asked for, the last time
	visits  *rate.Limiter

	stop    context.CancelFunc // nil: its programs do not find the usher
	again   chan struct{}      // asks for another try
	lending bool               // they do find it
	reason  string             // why they do not
	unheard time.Time          // until when nothing of it is heard
	client  *ssh.Client        // over which they do
	reverse map[int]*reversed  // ports of this machine, by those inside
}

// door is a port of this machine that leads into a workspace.
type door struct {
	want  Want
	port  int
	close func()
}

// New makes an usher.
func New(o Options) (*Usher, error) {
	m, err := remember(o.Memory)
	if err != nil {
		return nil, err
	}
	decided, err := recall(o.Decisions)
	if err != nil {
		return nil, err
	}
	return &Usher{o: o, listenAt: ListenAt, moved: make(chan struct{}), consent: decided, since: time.Now(), wake: make(chan struct{}, 1), stale: map[string]bool{}, places: map[string]*place{},
		doors: map[string]*door{}, refused: map[string]Taken{}, memory: m, said: map[string]time.Time{}, talk: map[string]*pace{}}, nil
}

const (
	// settle is how long more changes are waited for after one.
	settle = 20 * time.Millisecond
	// againFirst and againMost are the pauses before a service that is away is asked again.
	againFirst = 250 * time.Millisecond
	againMost  = 10 * time.Second
	// askLimit is how long an answer of the service's is waited for, askedAtOnce how many are at a time.
	askLimit    = 20 * time.Second
	askedAtOnce = 8
	// together is how long those that are quick to answer wait for the others.
	together = 300 * time.Millisecond
)

// Serve keeps the ports until ctx ends.
func (u *Usher) Serve(ctx context.Context) error {
	var all sync.WaitGroup
	defer all.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer u.lenders.Wait()
	defer u.closeAll()
	all.Go(func() { u.listen(ctx) })
	all.Go(func() { u.retryRefused(ctx) })
	var again atomic.Bool // it is going to be asked again
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-u.wake:
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(settle):
		}
		err := u.refresh(ctx)
		if ctx.Err() != nil {
			return nil
		}
		u.learned(err)
		if err != nil && again.CompareAndSwap(false, true) { // what was not learned is asked again, after a while
			all.Go(func() {
				select {
				case <-ctx.Done():
				case <-time.After(againMost):
					again.Store(false)
					u.changed("")
				}
			})
		}
	}
}

// retryEvery is how often a port is tried again that could not be had: the program that had it may be gone.
const retryEvery = 3 * time.Second

// retryRefused tries the ports again that another program had, until ctx ends.
func (u *Usher) retryRefused(ctx context.Context) {
	tick := time.NewTicker(retryEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		u.mu.Lock()
		some := len(u.refused) > 0
		u.mu.Unlock()
		if some {
			u.open(ctx)
		}
	}
}

// learned notes whether what has changed could be learned.
func (u *Usher) learned(err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case err != nil:
		u.reason = err.Error()
	case u.streaming:
		u.reason = ""
	}
}

// listen hears of changes until ctx ends. What is open stays open while the service is away.
func (u *Usher) listen(ctx context.Context) {
	wait := againFirst
	for ctx.Err() == nil {
		err := u.o.Service.Events(ctx, func(e client.Event) {
			wait = againFirst
			switch e.Type {
			case "look":
				u.mu.Lock()
				u.streaming, u.reason = true, ""
				u.mu.Unlock()
				u.tryLines()
				u.changed("")
			case "workspace":
				u.changed("")
			case "ports":
				u.changed(e.Workspace)
			}
		})
		if ctx.Err() != nil {
			return
		}
		u.lost(err)
		if fault.Code(err) == "not-signed-in" {
			u.signedOut(ctx)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, againMost)
	}
}

// signedOut closes all ports and connections: the token no longer counts.
func (u *Usher) signedOut(ctx context.Context) {
	u.mu.Lock()
	for _, p := range u.places {
		p.leave()
	}
	u.say("", "signed out", "You are signed out; nothing of your workspaces is at this machine any more. Sign in with domicile login, then start the usher again.")
	u.mu.Unlock()
	u.open(ctx)
}

func (u *Usher) lost(err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.streaming, u.reason = false, err.Error()
}

// changed notes that something of a workspace, or of all, is to be looked at.
func (u *Usher) changed(workspace string) {
	u.mu.Lock()
	u.stale[workspace] = true
	u.mu.Unlock()
	select {
	case u.wake <- struct{}{}:
	default:
	}
}

// refresh looks at what has changed, and opens and closes ports.
func (u *Usher) refresh(ctx context.Context) error {
	u.mu.Lock()
	stale := u.stale
	u.stale = map[string]bool{}
	u.mu.Unlock()
	if stale[""] {
		limited, cancel := context.WithTimeout(ctx, askLimit)
		list, err := u.o.Service.Workspaces(limited)
		cancel()
		u.mu.Lock()
		u.unlisted = err
		u.mu.Unlock()
		if err != nil {
			return err
		}
		u.setPlaces(ctx, list)
	}
	// Side by side, and all are opened at once, so that who had which port before counts; but one that
	// is slow to answer, or does not, keeps the others waiting for a moment only.
	var late atomic.Bool
	defer time.AfterFunc(together, func() {
		late.Store(true)
		u.open(ctx)
	}).Stop()
	var all errgroup.Group
	all.SetLimit(askedAtOnce)
	for _, name := range u.running() {
		if !stale[""] && !stale[name] {
			continue
		}
		all.Go(func() error {
			limited, cancel := context.WithTimeout(ctx, askLimit)
			defer cancel()
			p, err := u.o.Service.Ports(limited, name)
			if err != nil {
				err = fmt.Errorf("ask for the ports of %s: %w", name, err)
			}
			u.asked(name, err)
			if err != nil {
				return nil // it is told with what else is not known
			}
			u.setPorts(name, p)
			if late.Load() {
				u.open(ctx)
			}
			return nil
		})
	}
	_ = all.Wait()
	u.open(ctx)
	return u.unlearned()
}

// asked notes whether the ports of a workspace could be learned.
func (u *Usher) asked(workspace string, err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if p := u.places[workspace]; p != nil {
		p.unasked = err
	}
}

// unlearned tells what is not known, whenever it was asked for: what is learned of one workspace is no
// news of another.
func (u *Usher) unlearned() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.unlisted != nil {
		return u.unlisted
	}
	for _, name := range slices.Sorted(maps.Keys(u.places)) {
		if err := u.places[name].unasked; err != nil {
			return err
		}
	}
	return nil
}

// setPlaces takes over which workspaces there are.
func (u *Usher) setPlaces(ctx context.Context, list []client.Workspace) {
	u.mu.Lock()
	defer u.mu.Unlock()
	there := map[string]bool{}
	for _, w := range list {
		there[w.Name] = true
		p := u.places[w.Name]
		if p == nil {
			name := w.Name
			p = &place{visits: visits(), again: make(chan struct{}, 1), line: &sshline.Line[*ssh.Client]{Open: func(ctx context.Context) (*ssh.Client, error) { return u.o.Service.SSH(ctx, name) }},
				streams: &sshline.Line[*ssh.Client]{Open: func(ctx context.Context) (*ssh.Client, error) { return u.o.Service.LongSSH(ctx, name) }}}
			u.places[w.Name] = p
		}
		if !p.made.Equal(w.Created) { // another one of that name
			p.leave()
			p.made = w.Created
		}
		if w.Epoch != nil {
			p.epoch = *w.Epoch
		}
		if p.state = string(w.State); w.State != client.WorkspaceStateReady {
			p.leave()
			continue
		}
		if p.stop == nil && ctx.Err() == nil {
			here, stop := context.WithCancel(ctx)
			p.stop = stop
			u.lenders.Go(func() { u.lend(here, w.Name, p) })
		}
	}
	for name, p := range u.places {
		if !there[name] {
			p.leave()
			delete(u.places, name)
			delete(u.talk, name)
		}
	}
	u.memory.keepOnly(func(name string) bool { return there[name] })
	u.consent.keepOnly(func(name string) bool { return there[name] })
}

// leave ends what goes on with a workspace that does not run. The lock is held.
func (p *place) leave() {
	p.ports, p.known, p.lending, p.reason, p.client, p.unasked = nil, false, false, "", nil, nil
	if p.stop != nil {
		p.stop()
		p.stop = nil
	}
	p.line.Close()
	p.streams.Close()
}

// running are the names of workspaces that run.
func (u *Usher) running() (names []string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	for name, p := range u.places {
		if p.state == string(client.WorkspaceStateReady) {
			names = append(names, name)
		}
	}
	return names
}

// setPorts takes over what listens in a workspace. Where that is not known, such as while the
// service's connection to the agent is made anew, it is as it was.
func (u *Usher) setPorts(name string, now client.Ports) {
	u.mu.Lock()
	defer u.mu.Unlock()
	p := u.places[name]
	if p == nil || !now.Known && p.known {
		return
	}
	p.ports, p.known = now.Ports, now.Known
}

// mostPorts is how many ports of one workspace are opened here: whoever is inside can listen at
// any number.
const mostPorts = 600

// wants are the ports that should be reachable, and what the definition says of each. The caller
// holds the lock.
func (u *Usher) wants() (list []Want, said map[string]client.Port) {
	said = map[string]client.Port{}
	for name, p := range u.places {
		n := 0
		for _, port := range p.ports {
			w, ok := wanted(name, port)
			if !ok || n == mostPorts {
				continue
			}
			n++
			w.Elsewhere = w.Elsewhere && !slices.Contains(u.o.OwnNumbers, w.Port)
			list = append(list, w)
			said[w.key()] = port
		}
	}
	return list, said
}

// wanted tells whether a port should be reachable: one at which a program listens, and one of
// another service of the workspace that the definition names where it is not known whether one does.
func wanted(workspace string, p client.Port) (Want, bool) {
	if p.OnAutoForward != nil && *p.OnAutoForward == client.Ignore {
		return Want{}, false
	}
	host, number, found := strings.Cut(p.Port, ":")
	if !found {
		host, number = "localhost", p.Port
	}
	own := host == "localhost" || host == "127.0.0.1"
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || n > 65535 || p.Listener == nil && (own || p.Known != nil && *p.Known) || p.Listener != nil && p.Listener.Network != client.Tcp {
		return Want{}, false
	}
	exact := p.RequireLocalPort != nil && *p.RequireLocalPort
	return Want{Workspace: workspace, Target: net.JoinHostPort(host, number), Port: n, Exact: exact, Elsewhere: !exact && p.From == nil && IsUsual(n)}, true
}

func (u *Usher) closeAll() {
	u.mu.Lock()
	defer u.mu.Unlock()
	for key, d := range u.doors {
		d.close()
		delete(u.doors, key)
	}
	for _, p := range u.places {
		p.leave()
	}
}
