// Package portwatch keeps what listens in running workspaces, for as long as somebody wants to know
// it: one connection to an agent serves all who do.
package portwatch

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/records"
)

const (
	// lingers is how long a workspace is watched after the last one who wanted to know has gone: a
	// page that asks again and again is answered at once.
	lingers = 20 * time.Second
	// againFirst and againMost are the pauses before an agent that was lost is reached again; each
	// is twice the one before.
	againFirst = 500 * time.Millisecond
	againMost  = 15 * time.Second
	// firstLimit is how long the first report is waited for.
	firstLimit = 10 * time.Second
)

// Watch watches workspaces.
type Watch struct {
	ctx   context.Context
	reach Reach
	told  func(records.Workspace)
	log   *slog.Logger

	mu   sync.Mutex
	open map[int64]*watched
}

// Reach opens a connection to a workspace's agent.
type Reach func(context.Context, records.Workspace) (*agentlink.Link, error)

// watched is a workspace that is watched.
type watched struct {
	keepers int
	cancel  context.CancelFunc
	going   *time.Timer   // ends it
	said    chan struct{} // closed at what is known first, a fault too
	report  wire.ListeningReport
	known   bool // the report holds now
	err     error
}

// New makes a watch that ends with ctx. told is called after each change of what listens in a
// workspace.
func New(ctx context.Context, reach Reach, told func(records.Workspace), log *slog.Logger) *Watch {
	return &Watch{ctx: ctx, reach: reach, told: told, log: log, open: map[int64]*watched{}}
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
		one = &watched{cancel: cancel, said: make(chan struct{})}
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
func (x *Watch) Report(ctx context.Context, w records.Workspace) (wire.ListeningReport, error) {
	one := x.keep(w)
	defer x.release(w)
	limit := time.NewTimer(firstLimit)
	defer limit.Stop()
	select {
	case <-one.said:
	case <-ctx.Done():
		return wire.ListeningReport{}, ctx.Err()
	case <-limit.C:
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if !one.known && one.err == nil {
		return wire.ListeningReport{}, context.DeadlineExceeded
	}
	if !one.known {
		return wire.ListeningReport{}, one.err
	}
	return one.report, nil
}

// watch watches a workspace until ctx ends.
func (x *Watch) watch(ctx context.Context, w records.Workspace, one *watched) {
	first := sync.OnceFunc(func() { close(one.said) })
	wait := againFirst
	for ctx.Err() == nil {
		begun := time.Now()
		err := x.listen(ctx, w, func(r wire.ListeningReport) {
			x.mu.Lock()
			one.report, one.known, one.err = r, true, nil
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

func (x *Watch) listen(ctx context.Context, w records.Workspace, f func(wire.ListeningReport)) error {
	link, err := x.reach(ctx, w)
	if err != nil {
		return err
	}
	defer link.Close()
	return link.Quiet().Listening(ctx, f)
}
