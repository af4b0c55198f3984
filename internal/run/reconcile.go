package run

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
)

const (
	reconcileEvery = 2 * time.Second
	examineEvery   = 30 * time.Second
)

// reconcile compares, again and again, what the records say of a site with what it has.
// It starts what should run and says what is gone; it removes nothing.
func (r *Runner) reconcile(ctx context.Context, name string, s site.Site) {
	for ctx.Err() == nil {
		r.examine(ctx, name, s)
		instances, err := s.List(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			err = r.compare(ctx, name, s, instances)
		} else {
			r.unreachable(ctx, name, err)
		}
		if err != nil && ctx.Err() == nil && !fault.IsTransient(err) {
			r.o.Log.Warn("compare records and site", "site", name, "error", err)
		}
		pause(ctx, reconcileEvery)
	}
}

// examine keeps the facts about a site fresh, and tells when it goes and comes back.
func (r *Runner) examine(ctx context.Context, name string, s site.Site) {
	last := r.Examined(name)
	if last.Err == nil && time.Since(last.At) < examineEvery {
		return
	}
	facts, err := s.Examine(ctx)
	if ctx.Err() != nil {
		return
	}
	switch {
	case err != nil && (last.Err == nil || last.At.IsZero()):
		r.o.Log.Warn("a site does not answer", "site", name, "error", err)
	case err == nil && last.Err != nil:
		r.o.Log.Info("a site answers again", "site", name)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if err != nil {
		facts = last.Facts
	}
	r.facts[name] = Examined{facts, time.Now(), err}
}

// unreachable marks the workspaces whose site does not answer.
func (r *Runner) unreachable(ctx context.Context, name string, cause error) {
	r.mu.Lock()
	e := r.facts[name]
	e.Err = cause
	r.facts[name] = e
	r.mu.Unlock()
	list, err := r.o.Store.WorkspacesAt(ctx, name)
	if err != nil {
		return
	}
	for _, w := range list {
		if w.State == records.Ready {
			if err := r.o.Store.SetWorkspaceState(ctx, w, records.Lost, "its site does not answer: "+cause.Error()); err != nil {
				return
			}
		}
	}
}

func (r *Runner) compare(ctx context.Context, name string, s site.Site, instances []site.Instance) error {
	list, err := r.o.Store.WorkspacesAt(ctx, name)
	if err != nil {
		return err
	}
	there := make(map[string]site.Instance, len(instances))
	for _, i := range instances {
		there[i.Workspace] = i
	}
	for _, w := range list {
		if w.State != records.Ready && w.State != records.Lost {
			continue
		}
		i, found := there[w.SiteID()]
		if !found || !i.Running {
			// The list is older than the records: look again before anything is done about it.
			if i, found, err = s.Find(ctx, w.SiteID()); err != nil {
				return err
			}
		}
		switch {
		case !found && w.State == records.Lost && w.Reason == reasonGone:
		case !found:
			err = r.o.Store.SetWorkspaceState(ctx, w, records.Lost, reasonGone)
		case i.Running && w.State == records.Lost:
			err = r.o.Store.SetWorkspaceState(ctx, w, records.Ready, "")
		case !i.Running && w.Wanted == records.WantRunning:
			err = r.restart(ctx, w)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

const reasonGone = "its container is gone from the site; provision it again: its source is still in its volume"

// restart starts a workspace that ran until its site went away.
func (r *Runner) restart(ctx context.Context, w records.Workspace) error {
	p, err := planOf(w)
	if err != nil {
		return err
	}
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil || (now.State != records.Ready && now.State != records.Lost) || now.Wanted != records.WantRunning {
			return err
		}
		return r.enqueue(ctx, db, tx, w, records.KindStart, p.Start())
	})
	if errors.Is(err, records.ErrBusy) || errors.Is(err, records.ErrNotFound) {
		return nil // something is under way already
	}
	if err == nil {
		r.o.Log.Info("a workspace had stopped by itself and is started again", "workspace", w.Name)
	}
	return err
}
