package run

import (
	"context"
	"errors"
	"slices"
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
func (r *Runner) reconcile(ctx context.Context, name string, s place) {
	away := true // what happened meanwhile nobody saw
	for ctx.Err() == nil {
		r.examine(ctx, name, s)
		instances, err := s.List(ctx)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			err = r.compare(ctx, name, s, instances, away)
			away = away && err != nil
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
func (r *Runner) examine(ctx context.Context, name string, s place) {
	if last := r.Examined(name); last.Err == nil && time.Since(last.At) < examineEvery {
		return
	}
	r.lookAt(ctx, name, s)
}

// lookAt examines a site.
func (r *Runner) lookAt(ctx context.Context, name string, s place) {
	last := r.Examined(name)
	began := time.Now()
	facts, err := s.Examine(ctx)
	took := time.Since(began)
	if ctx.Err() != nil {
		return
	}
	switch {
	case err != nil && (last.Err == nil || last.At.IsZero()):
		r.o.Log.Warn("a site does not answer", "site", name, "error", err)
	case err == nil && last.Err != nil:
		r.o.Log.Info("a site answers again", "site", name)
	}
	if err == nil && last.At.IsZero() {
		r.tellOfRoot(ctx, name, facts)
	}
	if err == nil {
		r.places.learn(name)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if at, known := r.places.find(name); !known || at.gone != s.gone {
		return // it was left meanwhile: who is there now is looked at anew
	}
	if err != nil {
		facts = last.Facts
	}
	found := Examined{Facts: facts, At: time.Now(), Took: took, Err: err, Since: last.Since}
	if err == nil {
		found.Since = time.Time{}
	} else if found.Since.IsZero() {
		found.Since = time.Now()
	}
	r.facts[name] = found
}

// tellOfRoot says at each start where several people share a site on whose host root of a
// workspace is root.
func (r *Runner) tellOfRoot(ctx context.Context, name string, facts site.Facts) {
	if n, err := r.o.Store.CountAccounts(ctx); err != nil || n < 2 || facts.UserNamespaces {
		return
	}
	r.o.Log.Warn("several people have accounts, and root of a workspace is root of the host at this site: give its users other numbers there (docs/trust.md)", "site", name)
}

// unreachable marks the workspaces whose site does not answer.
func (r *Runner) unreachable(ctx context.Context, name string, cause error) {
	r.mu.Lock()
	e := r.facts[name]
	e.Err = cause
	if e.Since.IsZero() {
		e.Since = time.Now()
	}
	r.facts[name] = e
	r.mu.Unlock()
	list, err := r.o.Store.WorkspacesAt(ctx, name)
	if err != nil {
		return
	}
	for _, w := range list {
		if w.State == records.Ready {
			if err := r.o.Store.SetSeenState(ctx, w, records.Lost, "its site does not answer: "+cause.Error()); err != nil {
				return
			}
		}
	}
}

// compare sees what became of the workspaces of a site. away tells that it is the first look
// since the service runs.
func (r *Runner) compare(ctx context.Context, name string, s place, instances []site.Instance, away bool) error {
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
		case !found && w.State == records.Lost && w.Reason == reasonOfGone(s):
		case !found:
			err = r.o.Store.SetSeenState(ctx, w, records.Lost, reasonOfGone(s))
		case i.Running && i.CutOff != "" && w.Wanted == records.WantRunning:
			err = r.restart(ctx, w, i.CutOff)
		case i.Running && w.State == records.Lost:
			err = r.o.Store.SetSeenState(ctx, w, records.Ready, "")
		case !i.Running && w.Wanted == records.WantRunning:
			err = r.restart(ctx, w, whyStopped(w, away))
		case i.Running && w.State == records.Ready:
			err = r.lookAfter(ctx, s, w, i)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// reasonOfGone says what is gone with a workspace that its site has no more.
func reasonOfGone(s place) string {
	if s.can.Apart {
		return "its machine is gone, and with it all that was not pushed; provision it again"
	}
	return reasonGone
}

const reasonGone = "it is gone from its site; provision it again: its source is still in its volume"

// restart starts a workspace that ran until its site, or something of it, went away.
func (r *Runner) restart(ctx context.Context, w records.Workspace, why string) error {
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil || (now.State != records.Ready && now.State != records.Lost) || now.Wanted != records.WantRunning {
			return err
		}
		p, err := planOf(now)
		if err != nil {
			return err
		}
		return r.enqueueFor(ctx, db, tx, now, records.KindStart, why, p.Start())
	})
	if errors.Is(err, records.ErrBusy) || errors.Is(err, records.ErrNotFound) {
		return nil // something is under way already
	}
	if err == nil {
		r.o.Log.Info("a workspace is started again", "workspace", w.Name, "why", why)
	}
	return err
}

// whyStopped says how a workspace came to stop that should run.
func whyStopped(w records.Workspace, away bool) string {
	switch {
	case w.State == records.Lost:
		return "it had stopped with its site"
	case away:
		return "it had stopped while the service did not run"
	}
	return "it had stopped by itself"
}

// lookAfter brings services back that were removed or stopped from outside, and keeps the
// door open.
func (r *Runner) lookAfter(ctx context.Context, s place, w records.Workspace, i site.Instance) error {
	p, err := r.PlanOf(ctx, w)
	if err != nil || w.Wanted != records.WantRunning {
		return err
	}
	r.openDoor(s, w, p)
	for _, v := range p.Services {
		at := slices.IndexFunc(i.Services, func(s site.Service) bool { return s.Name == v.Name })
		switch {
		case at < 0:
			return r.restart(ctx, w, "its service "+v.Name+" was removed")
		case i.Services[at].Interrupted: // one that ended by itself may have been meant to
			return r.restart(ctx, w, "its service "+v.Name+" was stopped")
		}
	}
	return nil
}
