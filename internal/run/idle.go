package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

const (
	// warnBefore is how long before a workspace stops by itself its people are told; for a
	// short time of no use it is half of that.
	warnBefore = 5 * time.Minute
	useEvery   = 2 * time.Second
	// askAtMost bounds how long a workspace is not asked whether it is used.
	askAtMost = time.Minute
	// askedAtOnce is how many workspaces are asked side by side, lookLimit how long that takes
	// at the most for one.
	askedAtOnce = 8
	lookLimit   = 30 * time.Second
)

// watchUse stops, again and again, the workspaces of a site that nobody and nothing uses.
func (r *Runner) watchUse(ctx context.Context, name string) {
	for ctx.Err() == nil {
		pause(ctx, useEvery)
		list, err := r.o.Store.WorkspacesAt(ctx, name)
		if err != nil {
			continue // it is tried again
		}
		// Side by side: one that is slow to answer must not keep the others waiting.
		var all errgroup.Group
		all.SetLimit(askedAtOnce)
		for _, w := range list {
			if w.State != records.Ready || w.Kind != records.IsWorkspace {
				continue
			}
			all.Go(func() error {
				r.lookAtOne(ctx, w)
				return nil
			})
		}
		_ = all.Wait() // each has told of itself
	}
}

func (r *Runner) lookAtOne(ctx context.Context, w records.Workspace) {
	ctx, cancel := context.WithTimeout(ctx, lookLimit)
	defer cancel()
	if err := r.lookAtUse(ctx, w); err != nil && ctx.Err() == nil && !fault.IsTransient(err) {
		r.o.Log.Info("look whether a workspace is used", "workspace", w.Name, "error", err)
	}
}

// idleLimit is how long a workspace may be without use; 0: it does not stop by itself. A definition, which is
// untrusted, cannot make one go on that costs money: there a person has it stay (domicile stay).
func (r *Runner) idleLimit(p *plan.Plan) time.Duration {
	limit := r.idleLimitSaid(p)
	if p.Size.Price.Hour > 0 && r.o.IdleStop > 0 && (limit == 0 || limit > r.o.IdleStop) {
		return r.o.IdleStop
	}
	return limit
}

func (r *Runner) idleLimitSaid(p *plan.Plan) time.Duration {
	said := ""
	if p.Domicile != nil {
		said = p.Domicile.IdleStop
	}
	d, err := time.ParseDuration(said)
	switch {
	case said == "never" || said == "" && p.Shutdown == "none":
		return 0
	case said == "" || err != nil:
		return r.o.IdleStop
	}
	return d
}

func (r *Runner) lookAtUse(ctx context.Context, w records.Workspace) error {
	p, err := r.PlanOf(ctx, w)
	if err != nil {
		return err
	}
	limit := r.idleLimit(p)
	if limit == 0 || !r.turnToAsk(w, limit) {
		return nil
	}
	idle, err := r.idleFor(ctx, w)
	if err != nil {
		return err
	}
	idle = min(idle, time.Since(w.LastUsed)) // such as at its screen, of which the agent knows nothing
	if at, err := r.place(w.Site); err == nil && len(p.Services) > 0 && at.can.Overseer != nil {
		worked, err := at.can.Overseer.Worked(ctx, w.SiteID())
		if err != nil {
			return err
		}
		idle = min(idle, r.idleSince(w.ID, worked, time.Now()))
	}
	stops := time.Now().Add(limit - idle)
	if w.StayUntil != nil && w.StayUntil.After(stops) {
		stops = *w.StayUntil
	}
	left := time.Until(stops)
	warn := min(warnBefore, limit/2)
	switch {
	case left > warn:
		if w.StopsAt != nil { // it is used again
			return r.o.Store.SetStopsAt(ctx, w, nil)
		}
	case w.StopsAt == nil:
		r.o.Log.Info("a workspace is not used and stops soon", "workspace", w.Name, "in", left.Round(time.Second))
		stops = time.Now().Add(max(left, min(warn, warnBefore))) // those who are told have this long
		if err := r.o.Store.SetStopsAt(ctx, w, &stops); err != nil {
			return err
		}
		return r.tell(ctx, w, fmt.Sprintf("Nobody has used this workspace for %s. It stops by itself at %s; its files stay. To keep it: press a key, or domicile stay %s",
			idle.Round(time.Second), stops.Format("15:04:05"), w.Name))
	case time.Now().After(*w.StopsAt) && left <= 0:
		return r.stopIdle(ctx, w, idle)
	}
	return nil
}

// turnToAsk tells whether it is time to ask a workspace: the more seldom the longer it may
// be without use.
func (r *Runner) turnToAsk(w records.Workspace, limit time.Duration) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	last, known := r.asked[w.ID]
	if !known { // it has only just become ready, or the service has only just started
		last = time.Now()
		r.asked[w.ID] = last
	}
	if w.StopsAt == nil && time.Since(last) < min(limit/8, askAtMost) {
		return false
	}
	r.asked[w.ID] = time.Now()
	return true
}

// atWork is the share of one processor from which on services count as being at work.
const atWork = 0.05

// work is what the services beside a workspace had done when they were last looked at.
type work struct {
	at     time.Time
	worked time.Duration // processor time
	last   time.Time     // when they were last at work
}

// idleSince tells how long the services beside a workspace were not at work, of what they
// have worked by now. Where that is not known yet, they count as having been just now.
func (r *Runner) idleSince(workspace int64, worked time.Duration, now time.Time) time.Duration {
	r.mu.Lock()
	defer r.mu.Unlock()
	w, known := r.works[workspace]
	// Less than before: some were started anew.
	if !known || worked < w.worked || float64(worked-w.worked) > atWork*float64(now.Sub(w.at)) {
		w.last = now
	}
	w.at, w.worked = now, worked
	r.works[workspace] = w
	return now.Sub(w.last)
}

// idleFor asks the agents of a workspace and its helpers how long they were not used.
func (r *Runner) idleFor(ctx context.Context, w records.Workspace) (time.Duration, error) {
	helpers, err := r.o.Store.Helpers(ctx, w.ID)
	if err != nil {
		return 0, err
	}
	var least time.Duration
	for i, one := range append([]records.Workspace{w}, helpers...) {
		if i > 0 && one.State != records.Ready {
			continue
		}
		reply, err := r.activity(ctx, one)
		if err != nil {
			return 0, err
		}
		if idle := time.Duration(reply.Idle * float64(time.Second)); i == 0 || idle < least {
			least = idle
		}
	}
	return least, nil
}

func (r *Runner) activity(ctx context.Context, w records.Workspace) (wire.ActivityReply, error) {
	link, err := r.Reach(ctx, w)
	if err != nil {
		return wire.ActivityReply{}, err
	}
	defer link.Close()
	return link.Quiet().Activity(ctx)
}

func (r *Runner) tell(ctx context.Context, w records.Workspace, text string) error {
	link, err := r.Reach(ctx, w)
	if err != nil {
		return err
	}
	defer link.Close()
	return link.Quiet().Tell(ctx, text)
}

func (r *Runner) stopIdle(ctx context.Context, w records.Workspace, idle time.Duration) error {
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil || now.State != records.Ready || now.StopsAt == nil || now.StayUntil != nil && now.StayUntil.After(time.Now()) {
			return err // somebody was faster
		}
		if err := db.SetWanted(ctx, w.ID, records.WantStopped); err != nil {
			return err
		}
		if err := db.SetStopsAt(ctx, now, nil); err != nil {
			return err
		}
		return r.enqueueFor(ctx, db, tx, now, records.KindStop, fmt.Sprintf("nobody used it for %s", idle.Round(time.Second)), plan.Stop())
	})
	if errors.Is(err, records.ErrBusy) || errors.Is(err, records.ErrNotFound) {
		return nil
	}
	return err
}

// Stay keeps a workspace from stopping by itself for a while; 0: for as long as it may be
// without use.
func (r *Runner) Stay(ctx context.Context, w records.Workspace, d time.Duration) (time.Time, error) {
	if w.State != records.Ready {
		return time.Time{}, fault.New("not-ready", "domicile start "+w.Name, "the workspace %s is not running", w.Name)
	}
	p, err := planOf(w)
	if err != nil {
		return time.Time{}, err
	}
	if d == 0 {
		d = r.idleLimit(p)
	}
	if d < 0 || d > 30*24*time.Hour {
		return time.Time{}, fault.New("bad-duration", "give a time such as 2h, at most 30 days", "%s is no time to stay", d)
	}
	until := time.Now().Add(d)
	return until, r.o.Store.SetStayUntil(ctx, w, until)
}
