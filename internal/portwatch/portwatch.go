// Package portwatch keeps what listens in running workspaces and in the services beside them, for as
// long as somebody wants to know it: one connection to an agent serves all who do.
package portwatch

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/records"
)

const (
	// lingers is how long a workspace is watched after the last one who wanted to know has gone: a
	// page that asks again and again is answered at once.
	lingers = 20 * time.Second
	// againFirst and againMost are the pauses before an agent that was lost is reached again, or a service
	// is looked into that may have started again; each is twice the one before.
	againFirst = 500 * time.Millisecond
	againMost  = 15 * time.Second
	// firstLimit is how long the first report is waited for.
	firstLimit = 10 * time.Second
	// besideLimit is how long, after that, the first word of the services beside is waited for.
	besideLimit = 3 * time.Second
	// relistEvery is after how long it is asked again which services there are beside a workspace.
	relistEvery = 30 * time.Second
)

// Watch watches workspaces.
type Watch struct {
	ctx  context.Context
	from Sources
	told func(records.Workspace)
	log  *slog.Logger

	mu   sync.Mutex
	open map[int64]*watched
}

// Sources are those who know what listens.
type Sources interface {
	// Listening calls f with what listens in a workspace, or in a service beside it, at first and at
	// each change, until ctx ends or nobody answers any more. The workspace's own service is empty.
	Listening(ctx context.Context, w records.Workspace, service string, f func(wire.ListeningReport)) error
	// Beside names the services beside a workspace.
	Beside(ctx context.Context, w records.Workspace) ([]string, error)
}

// Report is what listens at one moment.
type Report struct {
	wire.ListeningReport // in the workspace itself
	// Beside is what listens in the services beside it, by their names: in those of which it is known.
	Beside map[string]wire.ListeningReport
}

// watched is a workspace that is watched.
type watched struct {
	keepers int
	cancel  context.CancelFunc
	going   *time.Timer   // ends it
	said    chan struct{} // closed at what is known first, a fault too
	beside  chan struct{} // closed when each service beside has said what it says first, a fault too
	report  Report
	known   bool // the report holds now
	err     error
}

// New makes a watch that ends with ctx. told is called after each change of what listens in a
// workspace.
func New(ctx context.Context, from Sources, told func(records.Workspace), log *slog.Logger) *Watch {
	return &Watch{ctx: ctx, from: from, told: told, log: log, open: map[int64]*watched{}}
}

// Keep has a workspace watched until the returned function is called.
func (x *Watch) Keep(w records.Workspace) (release func()) {
	x.keep(w)
	return sync.OnceFunc(func() { x.release(w) })
}

func (x *Watch) keep(w records.Workspace) *watched {
	x.mu.Lock()
	defer x.mu.Unlock()
	one := x.open[w.ID]
	if one == nil {
		ctx, cancel := context.WithCancel(x.ctx)
		one = &watched{cancel: cancel, said: make(chan struct{}), beside: make(chan struct{})}
		x.open[w.ID] = one
		go x.watch(ctx, w, one)
	}
	if one.going != nil {
		one.going.Stop()
		one.going = nil
	}
	one.keepers++
	return one
}

func (x *Watch) release(w records.Workspace) {
	x.mu.Lock()
	defer x.mu.Unlock()
	one := x.open[w.ID]
	if one == nil {
		return
	}
	if one.keepers--; one.keepers > 0 {
		return
	}
	one.going = time.AfterFunc(lingers, func() {
		x.mu.Lock()
		defer x.mu.Unlock()
		if one.keepers == 0 && x.open[w.ID] == one {
			one.cancel()
			delete(x.open, w.ID)
		}
	})
}

// Report tells what listens in a workspace now. The error tells why that is not known.
func (x *Watch) Report(ctx context.Context, w records.Workspace) (Report, error) {
	one := x.keep(w)
	defer x.release(w)
	limit := time.NewTimer(firstLimit)
	defer limit.Stop()
	select {
	case <-one.said:
	case <-ctx.Done():
		return Report{}, ctx.Err()
	case <-limit.C:
	}
	limit.Reset(besideLimit)
	select {
	case <-one.beside:
	case <-ctx.Done():
		return Report{}, ctx.Err()
	case <-limit.C: // those that have said nothing are not known
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if !one.known && one.err == nil {
		return Report{}, context.DeadlineExceeded
	}
	if !one.known {
		return Report{}, one.err
	}
	r := one.report
	r.Beside = maps.Clone(r.Beside)
	return r, nil
}

// watch watches a workspace until ctx ends.
func (x *Watch) watch(ctx context.Context, w records.Workspace, one *watched) {
	first := sync.OnceFunc(func() { close(one.said) })
	go x.watchServices(ctx, w, one)
	wait := againFirst
	for ctx.Err() == nil {
		begun := time.Now()
		err := x.from.Listening(ctx, w, "", func(r wire.ListeningReport) {
			x.mu.Lock()
			one.report.ListeningReport, one.known, one.err = r, true, nil
			x.mu.Unlock()
			first()
			x.told(w)
		})
		if ctx.Err() != nil {
			break
		}
		x.log.Debug("watch what listens", "workspace", w.Name, "error", err)
		x.mu.Lock()
		wasKnown := one.known
		one.known, one.err = false, err
		x.mu.Unlock()
		first()
		if wasKnown {
			x.told(w)
		}
		if time.Since(begun) > againMost {
			wait = againFirst
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, againMost)
	}
	first()
}

// watchServices watches the services beside a workspace until ctx ends.
func (x *Watch) watchServices(ctx context.Context, w records.Workspace, one *watched) {
	watching := map[string]context.CancelFunc{}
	var firsts sync.WaitGroup
	tick := time.NewTicker(relistEvery)
	defer tick.Stop()
	for begun := false; ; begun = true {
		if names, err := x.from.Beside(ctx, w); err == nil { // otherwise again in a while
			for name, end := range watching {
				if !slices.Contains(names, name) {
					end()
					delete(watching, name)
				}
			}
			for _, name := range names {
				if watching[name] == nil {
					of, end := context.WithCancel(ctx)
					watching[name] = end
					first := func() {}
					if !begun {
						firsts.Add(1)
						first = sync.OnceFunc(firsts.Done)
					}
					go x.watchService(of, w, name, one, first)
				}
			}
		}
		if !begun {
			go func() {
				firsts.Wait()
				close(one.beside)
			}()
		}
		select {
		case <-ctx.Done():
			for _, end := range watching {
				end()
			}
			return
		case <-tick.C:
		}
	}
}

// watchService watches one service. That it cannot be seen is no fault: it may have ended, or begin
// to run later.
func (x *Watch) watchService(ctx context.Context, w records.Workspace, name string, one *watched, first func()) {
	defer first()
	knows := func(r wire.ListeningReport, known bool) {
		x.mu.Lock()
		_, before := one.report.Beside[name]
		if known {
			if one.report.Beside == nil {
				one.report.Beside = map[string]wire.ListeningReport{}
			}
			one.report.Beside[name] = r
		} else {
			delete(one.report.Beside, name)
		}
		x.mu.Unlock()
		first()
		if known || before {
			x.told(w)
		}
	}
	wait := againFirst
	for ctx.Err() == nil {
		err := x.from.Listening(ctx, w, name, func(r wire.ListeningReport) {
			wait = againFirst
			knows(r, true)
		})
		x.log.Debug("watch what listens beside", "workspace", w.Name, "service", name, "error", err)
		knows(wire.ListeningReport{}, false)
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, againMost)
	}
}
