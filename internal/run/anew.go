package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/records"
)

// anewStep makes a workspace begin with what was kept of it, at another site than the one that is
// gone.
var anewStep = plain((*execution).anew)

// Anew makes the run that makes a workspace anew at a site from what was kept of it: its own site
// does not answer, or has it no more.
func (r *Runner) Anew(ctx context.Context, account int64, name, site, size string) (records.Workspace, error) {
	to, err := r.taking(site)
	if err != nil {
		return records.Workspace{}, err
	}
	w, err := r.o.Store.WorkspaceByName(ctx, account, name)
	if err == nil {
		err = r.isLost(w, site)
	}
	if err != nil {
		return w, err
	}
	snapshot, err := r.lastKept(ctx, w, to) // engines are asked for it: not while the record is locked
	if err != nil {
		return w, err
	}
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		before := w.ID
		var err error
		if w, err = db.LockWorkspace(ctx, account, name); err != nil {
			return err
		}
		if w.ID != before {
			return records.ErrNotFound // another has the name by now
		}
		if err := ownOnly(w); err != nil {
			return err
		}
		if err := r.isLost(w, site); err != nil {
			return err
		}
		p, err := r.planThere(asKept(w, snapshot), site, size)
		if err == nil {
			err = keepingLeft(ctx, db, w, site)
		}
		if err == nil {
			err = r.mayRun(ctx, db, site, w.ID)
		}
		if err != nil {
			return err
		}
		helpers, err := db.Helpers(ctx, w.ID)
		if err != nil {
			return err
		}
		if len(helpers) > 0 {
			return fault.New("has-helpers", "remove them first: domicile remove "+helpers[0].Name, "the workspace %s has helpers, which stay where they are", name)
		}
		if err := errors.Join(db.CancelRuns(ctx, w, "ended by "+records.KindAnew), db.SetWanted(ctx, w.ID, records.WantRunning)); err != nil {
			return err
		}
		if err := r.enqueue(ctx, db, tx, w, records.KindAnew, p.Anew(site)); err != nil {
			return err
		}
		return db.TargetRun(ctx, w.ID, site, size, &snapshot.ID)
	})
	return w, busy(err, name)
}

// isLost refuses to make anew at a site what can go there as it is.
func (r *Runner) isLost(w records.Workspace, site string) error {
	if r.answers(w.Site) && w.State != records.Lost && w.State != records.Failed {
		return fault.New("not-lost", "domicile move "+w.Name+" -site "+site+" brings it as it is now", "the site %s has the workspace %s, and answers", w.Site, w.Name)
	}
	return nil
}

// keepingLeft refuses to make a workspace at a site where what it was before is not kept yet.
func keepingLeft(ctx context.Context, db records.Queries, w records.Workspace, site string) error {
	list, err := db.LeftBehindBy(ctx, w.ID)
	if err == nil && slices.ContainsFunc(list, func(l records.LeftBehind) bool { return l.Site == site }) {
		err = fault.Transient(nil, "busy", "try again in a moment: domicile snapshots tells when it is there", "what %s was at the site %s is kept as a snapshot first", w.Name, site)
	}
	return err
}

// asKept is a workspace as it was when a snapshot of it was kept.
func asKept(w records.Workspace, s records.Snapshot) records.Workspace {
	w.Plan, w.Commit = s.Plan, s.Commit
	return w
}

// KeptOf gives the newest snapshot of a workspace that a site has which answers; false: there is
// none.
func (r *Runner) KeptOf(ctx context.Context, workspace int64) (records.Snapshot, bool, error) {
	list, err := r.o.Store.SnapshotsOf(ctx, workspace)
	i := slices.IndexFunc(list, func(s records.Snapshot) bool { return s.Ready && s.Kind == records.Personal && r.answers(s.Site) })
	if err != nil || i < 0 {
		return records.Snapshot{}, false, err
	}
	return list[i], true, nil
}

func (r *Runner) answers(site string) bool {
	found := r.Examined(site)
	return found.Err == nil && !found.At.IsZero()
}

// lastKept is the newest snapshot of a workspace from which it can be made at a site.
func (r *Runner) lastKept(ctx context.Context, w records.Workspace, to place) (s records.Snapshot, err error) {
	list, err := r.o.Store.SnapshotsOf(ctx, w.ID)
	if err != nil {
		return s, err
	}
	elsewhere := ""
	for _, s := range list {
		if !s.Ready || s.Kind != records.Personal || !r.answers(s.Site) {
			continue
		}
		at, err := r.place(s.Site)
		if err != nil {
			continue // a site that is there no more
		}
		if at.name == to.name {
			return s, nil
		}
		if at.can.Carrier != nil && to.can.Carrier != nil {
			if shared, err := to.can.Carrier.SharesStore(ctx, at.can.Carrier); err == nil && shared { // one that does not answer has nothing
				return s, nil
			}
		}
		if elsewhere == "" {
			elsewhere = at.name
		}
	}
	if elsewhere != "" {
		return s, fault.New("another-site", "domicile move "+w.Name+" -from-kept -site "+elsewhere, "what was kept of %s is at the site %s", w.Name, elsewhere)
	}
	return s, fault.New("no-snapshot", "wait until its site answers; from then on: domicile sites change "+w.Site+" -copies 6h@SITE", "nothing was kept of %s at a site that answers", w.Name)
}

// anew makes the other site the workspace's own, all at once, with the plan of what was kept. What
// it had at its own is left there.
func (c *execution) anew(ctx context.Context, id string) error {
	to, err := c.place(c.run.Target)
	if err != nil {
		return err
	}
	if c.run.Snapshot == nil {
		return errors.New("make it anew: nothing that was kept is named")
	}
	snapshot, err := c.o.Store.Snapshot(ctx, *c.run.Snapshot)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("no-snapshot", "domicile snapshots lists the others", "what was kept of %s was removed", c.workspace.Name)
	}
	if err != nil {
		return err
	}
	if c.workspace.BeginsWith == nil || *c.workspace.BeginsWith != snapshot.ID || c.workspace.Site != to.name { // else an earlier worker got as far
		if err := c.goAnew(ctx, id, to, snapshot); err != nil {
			return err
		}
	}
	if c.workspace, err = c.o.Store.Workspace(ctx, c.workspace.ID); err != nil {
		return err
	}
	if c.out.plan, err = planOf(c.workspace); err != nil {
		return err
	}
	c.at = to
	c.log.say(fmt.Sprintf("it begins with what was kept on %s, %s ago: what was changed in it since then is missing", snapshot.Created.Format("2006-01-02 15:04"), time.Since(snapshot.Created).Round(time.Second)))
	return c.setState(ctx, records.Making, "")
}

func (c *execution) goAnew(ctx context.Context, id string, to place, snapshot records.Snapshot) error {
	var images map[string]string
	if err := json.Unmarshal(snapshot.Images, &images); err != nil {
		return fmt.Errorf("read the images of the snapshot: %w", err)
	}
	p, err := c.planThere(asKept(c.workspace, snapshot), to.name, c.run.TargetSize)
	if err != nil {
		return err
	}
	p.From(images)
	b, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("keep the plan: %w", err)
	}
	if err := to.Remove(ctx, id); err != nil { // what an earlier attempt has left
		return err
	}
	w := c.workspace
	return c.write(ctx, func(db records.Queries) error {
		if w.Site != to.name {
			left, err := describeSnapshot(ctx, db, w, records.Snapshot{Kind: records.Personal, Note: "what was at " + w.Site + " when it was made anew at " + to.name})
			if err != nil {
				return err
			}
			if err := errors.Join(db.KeepEarlier(ctx, w.ID), db.LeaveBehind(ctx, left)); err != nil {
				return err
			}
		}
		return errors.Join(db.ForgetLeftBehind(ctx, to.name, w.ID), db.SetSite(ctx, w.ID, to.name), db.SetSize(ctx, w.ID, p.Size.Name),
			db.SetPlan(ctx, w.ID, snapshot.Commit, b), db.SetBeginsWith(ctx, w.ID, &snapshot.ID))
	})
}

// leftAt tells that a workspace has left what it was at a site: there it is not touched any more.
func (c *execution) leftAt(ctx context.Context, site string) (bool, error) {
	list, err := c.o.Store.LeftBehindBy(ctx, c.workspace.ID)
	return slices.ContainsFunc(list, func(l records.LeftBehind) bool { return l.Site == site }), err
}

// stayLost ends a run that could not make a workspace anew: it is what it was, at its own site.
func (c *execution) stayLost(ctx context.Context, failed *records.Step, _ bool) error {
	before, err := c.before(ctx)
	if err != nil {
		return err
	}
	to := c.run.Target
	if err := c.comeBack(ctx, before); err != nil {
		return err
	}
	return c.failRun(ctx, records.Lost, fmt.Sprintf("it could not be made anew at %s: %s: %s", to, failed.Title, failed.Reason))
}
