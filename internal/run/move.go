package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// A move takes a workspace to another site: carryStep brings what was kept of it, goStep makes the
// other site its own, leaveStep removes what is left where it was. Until it works there, what was
// stays.
var (
	carryStep = plain((*execution).carry)
	goStep    = plain((*execution).goOver)
	leaveStep = plain((*execution).leaveBehind)
)

// What a site may not be able to do.
const (
	toMove   = "gives no workspace to another site"
	toTakeIn = "takes no workspace of another site"
)

// Move makes the run that takes a workspace to another site. size is one of that site's; empty:
// one of the same name there, or the usual one.
func (r *Runner) Move(ctx context.Context, account int64, name, site, size string) (records.Workspace, error) {
	to, err := r.taking(site)
	if err != nil {
		return records.Workspace{}, err
	}
	var w records.Workspace
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		var err error
		if w, err = db.LockWorkspace(ctx, account, name); err != nil {
			return err
		}
		if err := ownOnly(w); err != nil {
			return err
		}
		p, err := r.mayMove(ctx, db, w, to, size)
		if err == nil {
			err = r.mayRun(ctx, db, site, w.ID)
		}
		if err != nil {
			return err
		}
		if err := db.SetWanted(ctx, w.ID, records.WantRunning); err != nil {
			return err
		}
		if err := r.enqueue(ctx, db, tx, w, records.KindMove, p.Move(w.Site, site)); err != nil {
			return err
		}
		if _, err := addSnapshot(ctx, db, w, records.Snapshot{Kind: records.Personal, Note: "before it went to " + site}); err != nil {
			return err
		}
		return db.TargetRun(ctx, w.ID, site, size, nil)
	})
	return w, busy(err, name)
}

// mayMove refuses what cannot go to a site, and gives the plan that it would have there.
func (r *Runner) mayMove(ctx context.Context, db records.Queries, w records.Workspace, to place, size string) (*plan.Plan, error) {
	from, err := r.place(w.Site)
	if err != nil {
		return nil, err
	}
	helpers, err := db.Helpers(ctx, w.ID)
	if err != nil {
		return nil, err
	}
	if err := keepingLeft(ctx, db, w, to.name); err != nil {
		return nil, err
	}
	switch {
	case w.Site == to.name:
		return nil, fault.New("there-already", "name another site", "the workspace %s is at the site %s already", w.Name, to.name)
	case w.State != records.Ready && w.State != records.Stopped:
		return nil, fault.New("not-ready", "watch it: domicile follow "+w.Name, "the workspace %s is %s: only one that was made has anything to move", w.Name, w.State)
	case w.Mount:
		return nil, fault.New("mounted-folder", "make a workspace from a git address", "the source of %s is a folder of the host of %s", w.Name, w.Site)
	case len(helpers) > 0:
		return nil, fault.New("has-helpers", "remove them first: domicile remove "+helpers[0].Name, "the workspace %s has helpers, which stay where they are", w.Name)
	case from.can.Carrier == nil || from.can.Keeper == nil:
		return nil, from.cannot(toMove)
	case to.can.Carrier == nil:
		return nil, to.cannot(toTakeIn)
	}
	if there, here := r.Examined(to.name), r.Examined(w.Site); there.Err != nil {
		return nil, fault.Transient(there.Err, "engine-unavailable", "", "the site %s does not answer", to.name)
	} else if there.Architecture != here.Architecture && there.Architecture != "" && here.Architecture != "" {
		return nil, fault.New("another-architecture", "make it anew there: domicile provision -site "+to.name, "the site %s is of another architecture, %s: what was built on %s does not run there", to.name, there.Architecture, here.Architecture)
	}
	return r.planThere(w, to.name, size)
}

// planThere is a workspace's plan as it would be at another site.
func (r *Runner) planThere(w records.Workspace, site, size string) (*plan.Plan, error) {
	p, err := planOf(w)
	if err != nil {
		return nil, err
	}
	here := r.SettingsAt(site)
	chosen, err := plan.ChooseSize(here.Sizes, size)
	if err == nil && size == "" {
		if chosen, err = plan.ChooseSize(here.Sizes, p.Size.Name); err != nil || p.Size.Name == "" {
			chosen, err = plan.ChooseSize(here.Sizes, here.Size)
		}
	}
	if err != nil {
		return nil, err
	}
	return p.At(chosen, r.host(site), judge.Subject{Account: w.Account, Workspace: w.SiteID(), Policy: here.Allow, Given: here.Given, Images: p.Made()})
}

// ofMove finds the snapshot that a move, or a copy, which is under way keeps. It is the newest, unless its owner
// has removed it meanwhile: an earlier one is never taken in its place.
func (c *execution) ofMove(ctx context.Context) (s records.Snapshot, found bool, err error) {
	list, err := c.o.Store.SnapshotsOf(ctx, c.workspace.ID)
	if err != nil || len(list) == 0 {
		return s, false, err
	}
	if (c.run.Kind == records.KindMove || c.run.Kind == records.KindCopy) && list[0].Created.Before(c.run.Created) {
		return s, false, nil // both were written down at one moment
	}
	return list[0], true, nil
}

// kept is what this run has kept, with its images.
func (c *execution) kept(ctx context.Context) (records.Snapshot, map[string]string, error) {
	s, found, err := c.ofMove(ctx)
	if err == nil && (!found || !s.Ready) {
		err = keptIsGone(c.workspace)
	}
	if err != nil {
		return s, nil, err
	}
	var images map[string]string
	if err := json.Unmarshal(s.Images, &images); err != nil {
		return s, nil, fmt.Errorf("read the images of the snapshot: %w", err)
	}
	return s, images, nil
}

// carry brings what was kept to the other site. Of the workspace nothing is there yet: what an
// earlier move that failed has left is removed.
func (c *execution) carry(ctx context.Context, id string) error {
	to, err := c.place(c.run.Target)
	if err != nil {
		return err
	}
	if to.can.Carrier == nil {
		return to.cannot(toTakeIn)
	}
	if c.at.can.Carrier == nil {
		return c.at.cannot(toMove)
	}
	snapshot, images, err := c.kept(ctx)
	if err != nil {
		return err
	}
	if err := c.bringSnapshot(ctx, to, snapshot, images); err != nil {
		return err
	}
	return to.Remove(ctx, id)
}

// goOver makes the other site the workspace's own, all at once. What it was is kept until it
// works there.
func (c *execution) goOver(ctx context.Context, _ string) error {
	to, err := c.place(c.run.Target)
	if err != nil {
		return err
	}
	snapshot, images, err := c.kept(ctx)
	if err != nil {
		return err
	}
	if c.workspace.Site != to.name { // else an earlier worker did not get to say so
		p, err := c.planThere(c.workspace, to.name, c.run.TargetSize)
		if err != nil {
			return err
		}
		p.From(images)
		b, err := json.Marshal(p)
		if err != nil {
			return fmt.Errorf("keep the plan: %w", err)
		}
		id := c.workspace.ID
		err = c.write(ctx, func(db records.Queries) error {
			return errors.Join(db.KeepEarlier(ctx, id), db.SetSite(ctx, id, to.name), db.SetSize(ctx, id, p.Size.Name), db.SetPlan(ctx, id, c.workspace.Commit, b), db.SetBeginsWith(ctx, id, &snapshot.ID), snapshotAt(ctx, db, snapshot, to))
		})
		if err != nil {
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
	return c.setState(ctx, records.Making, "")
}

// snapshotAt notes that a snapshot is at another site, where that keeps some; else it stays.
func snapshotAt(ctx context.Context, db records.Queries, s records.Snapshot, to place) error {
	if to.can.Keeper == nil {
		return nil
	}
	return db.SetSnapshotSite(ctx, s.ID, to.name)
}

// leaveBehind removes what is left where the workspace was. From here on there is no way back.
func (c *execution) leaveBehind(ctx context.Context, id string) error {
	before, err := c.before(ctx)
	if err != nil || before == nil {
		return err
	}
	from, err := c.place(before.Site)
	if err != nil {
		return err
	}
	if from.can.Keeper == nil {
		return from.cannot(toMove)
	}
	snapshot, found, err := c.ofMove(ctx)
	if err != nil {
		return err
	}
	if err := from.Remove(ctx, id); err != nil {
		return err
	}
	if found {
		if err := c.dropCopy(ctx, from, snapshot); err != nil {
			return err
		}
	}
	_, err = c.dropEarlier(ctx)
	return err
}

// dropCopy removes what a site has of a snapshot that is kept at another, unless both keep it in
// the same place.
func (c *execution) dropCopy(ctx context.Context, at place, s records.Snapshot) error {
	if at.can.Keeper == nil || s.Site == at.name {
		return nil
	}
	stays, err := c.place(s.Site)
	if err != nil {
		return err
	}
	if stays.can.Carrier != nil && at.can.Carrier != nil {
		if shared, err := stays.can.Carrier.SharesStore(ctx, at.can.Carrier); err != nil || shared {
			return err
		}
	}
	return at.can.Keeper.RemoveSaved(ctx, s.SiteID())
}

// stay ends a move one of whose steps failed: the workspace is where it was, and is started there.
func (c *execution) stay(ctx context.Context, failed *records.Step, _ bool) error {
	before, err := c.before(ctx)
	if err != nil {
		return err
	}
	if failed.Name == plan.StepLeave {
		if _, err := c.dropEarlier(ctx); err != nil {
			return err
		}
		return c.failRun(ctx, records.Ready, fmt.Sprintf("it is at %s and works, but not all that is left at its earlier site could be removed: %s", c.workspace.Site, failed.Reason))
	}
	if err := c.comeBack(ctx, before); err != nil {
		return err
	}
	if err := c.dropKept(ctx); err != nil {
		return err
	}
	// What is to run, and does not, is started at the next look at the site.
	return c.failRun(ctx, records.Lost, fmt.Sprintf("the move to %s failed, and it stays at %s: %s: %s", c.run.Target, c.workspace.Site, failed.Title, failed.Reason))
}

// comeBack makes a workspace again what it was before a move; before is nil where that has changed
// nothing.
func (c *execution) comeBack(ctx context.Context, before *earlier) error {
	if before == nil || before.Site == c.workspace.Site {
		return nil
	}
	if c.at.Site != nil {
		if err := c.at.Remove(ctx, c.workspace.SiteID()); err != nil {
			c.log.say(fmt.Sprintf("what was made at %s could not be removed, and is replaced when it goes there again: %v", c.at.name, err))
		}
	}
	if left, err := c.leftAt(ctx, before.Site); err != nil || left {
		return errors.Join(err, c.putBackRecord(ctx, before.Site, nil))
	}
	snapshot, found, err := c.ofMove(ctx)
	if err != nil {
		return err
	}
	copied := snapshot
	copied.Site = before.Site // the one that stays is where it was kept
	if found {
		if err := c.dropCopy(ctx, c.at, copied); err != nil {
			c.log.say(fmt.Sprintf("what was kept of it at %s could not be removed: %v", c.at.name, err))
		}
	}
	if !found {
		return c.putBackRecord(ctx, before.Site, nil)
	}
	return c.putBackRecord(ctx, before.Site, &snapshot)
}

// putBackRecord makes a workspace's record again what it was at an earlier site, where a snapshot
// is then kept; nil: none is.
func (c *execution) putBackRecord(ctx context.Context, site string, kept *records.Snapshot) error {
	err := c.write(ctx, func(db records.Queries) error {
		err := errors.Join(db.PutEarlierBack(ctx, c.workspace.ID), db.ForgetLeftBehind(ctx, site, c.workspace.ID))
		if err == nil && kept != nil {
			err = db.SetSnapshotSite(ctx, kept.ID, site)
		}
		if errors.Is(err, records.ErrNotFound) {
			err = nil // its owner has removed it
		}
		return err
	})
	if err != nil {
		return err
	}
	if c.workspace, err = c.o.Store.Workspace(ctx, c.workspace.ID); err != nil {
		return err
	}
	c.at, err = c.place(c.workspace.Site)
	return err
}

// dropKept forgets what was kept for a move that failed, at both sites.
func (c *execution) dropKept(ctx context.Context) error {
	snapshot, found, err := c.ofMove(ctx)
	if err != nil || !found {
		return err
	}
	for _, name := range []string{c.workspace.Site, c.run.Target} {
		at, err := c.place(name)
		if err == nil && at.can.Keeper != nil {
			err = at.can.Keeper.RemoveSaved(ctx, snapshot.SiteID())
		}
		if err != nil {
			c.log.say(fmt.Sprintf("what was kept of it at %s could not be removed: %v", name, err)) // domicile tidy finds it
		}
	}
	return c.write(ctx, func(db records.Queries) error { return db.RemoveSnapshot(ctx, snapshot.ID) })
}
