package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"domicile/internal/amount"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// saveStep keeps a snapshot of the workspace.
var saveStep = plain((*execution).save)

// save keeps a snapshot of the workspace: for a snapshot in the record that was made when it
// was asked for, for what is prepared in one that is made now.
func (c *execution) save(ctx context.Context, id string) error {
	snapshot, err := c.unready(ctx)
	if errors.Is(err, records.ErrNotFound) && c.kind().impersonal {
		snapshot, err = c.addPrepared(ctx)
	}
	if err != nil {
		return fmt.Errorf("look for the snapshot's record: %w", err)
	}
	if c.at.can.Keeper == nil {
		return c.at.cannot(toKeepSnapshots)
	}
	saved, err := c.at.can.Keeper.Save(ctx, id, snapshot.SiteID(), c.log.say)
	if err != nil {
		return err
	}
	b, err := json.Marshal(saved.Images)
	if err != nil {
		return fmt.Errorf("keep the images of the snapshot: %w", err)
	}
	c.log.say(amount.Of(saved.Bytes))
	return c.write(ctx, func(db records.Queries) error { return db.KeepSnapshot(ctx, snapshot.ID, b, saved.Bytes) })
}

// unready finds the snapshot that this run is to keep.
func (c *execution) unready(ctx context.Context) (records.Snapshot, error) {
	list, err := c.o.Store.SnapshotsOf(ctx, c.workspace.ID)
	if err != nil {
		return records.Snapshot{}, err
	}
	i := slices.IndexFunc(list, func(s records.Snapshot) bool { return !s.Ready })
	if i < 0 {
		return records.Snapshot{}, records.ErrNotFound
	}
	return list[i], nil
}

// forgetUnready forgets a snapshot that was not kept whole.
func (c *execution) forgetUnready(ctx context.Context) error {
	snapshot, err := c.unready(ctx)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if c.at.can.Keeper != nil {
		if err := c.at.can.Keeper.RemoveSaved(ctx, snapshot.SiteID()); err != nil {
			c.log.say("what was kept of it could not be removed: " + err.Error()) // domicile tidy finds it
		}
	}
	return c.write(ctx, func(db records.Queries) error { return db.RemoveSnapshot(ctx, snapshot.ID) })
}

// dropUnready forgets a snapshot that could not be kept, and ends the run for it.
func (c *execution) dropUnready(ctx context.Context, failed *records.Step, _ bool) error {
	if err := c.forgetUnready(ctx); err != nil {
		return err
	}
	return c.failRun(ctx, c.workspace.State, "no snapshot was kept: "+failed.Reason)
}

// addPrepared makes the record of what was prepared. Where somebody signed in for it, or its
// image was built with secrets or caches, what is in it is that account's alone: others might
// not get its submodules or large files by themselves.
func (c *execution) addPrepared(ctx context.Context) (s records.Snapshot, err error) {
	if c.workspace, err = c.o.Store.Workspace(ctx, c.workspace.ID); err != nil {
		return s, err
	}
	address, err := source.Parse(c.workspace.Source)
	if err != nil {
		return s, err
	}
	login, err := c.o.Vault.Login(ctx, c.workspace.Account, address.Host())
	if err != nil {
		return s, err
	}
	shared := login == nil && (c.out.plan.Recipe == nil || c.out.plan.Recipe.Account == 0)
	err = c.write(ctx, func(db records.Queries) error {
		s, err = addSnapshot(ctx, db, c.workspace, records.Snapshot{Kind: records.Prepared, Shared: shared})
		return err
	})
	return s, err
}

// addSnapshot makes the record of a snapshot of a workspace as it is now. s has its kind, its note,
// and whether it is shared, or a copy.
func addSnapshot(ctx context.Context, db records.Queries, w records.Workspace, s records.Snapshot) (records.Snapshot, error) {
	s, err := describeSnapshot(ctx, db, w, s)
	if err != nil {
		return s, err
	}
	return db.AddSnapshot(ctx, s)
}

func describeSnapshot(ctx context.Context, db records.Queries, w records.Workspace, s records.Snapshot) (records.Snapshot, error) {
	p, err := planOf(w)
	if err != nil {
		return s, err
	}
	done, err := db.DoneSteps(ctx, w.ID)
	if err != nil {
		return s, err
	}
	digests := records.Digests(done)
	if s.Kind == records.Prepared { // what belongs to a person is not done yet
		for _, stage := range definition.Lifecycle {
			if stage != "onCreateCommand" && stage != "updateContentCommand" {
				delete(digests, stage)
			}
		}
	}
	if s.Done, err = json.Marshal(digests); err != nil {
		return s, err
	}
	s.Account, s.Workspace, s.Name, s.Site, s.Source, s.Ref, s.File, s.Size = w.Account, &w.ID, w.Name, w.Site, w.Source, w.Ref, w.File, w.Size
	s.Commit, s.Plan, s.Session, s.UID, s.Digest = w.Commit, w.Plan, w.Session, w.UID, p.Container.Digest
	return s, nil
}

// imagesOf gives the images of a state, and whether the site still has them all. Of one
// that it has not the record is of no more use.
func (c *execution) imagesOf(ctx context.Context, snapshot records.Snapshot) (images map[string]string, there bool, err error) {
	if err := json.Unmarshal(snapshot.Images, &images); err != nil {
		return nil, false, fmt.Errorf("read the images of the snapshot: %w", err)
	}
	for _, image := range images {
		judged, err := plan.JudgeImage(image, judge.Subject{Images: []string{image}})
		if err != nil {
			return nil, false, err
		}
		has, err := c.at.HasImage(ctx, judged)
		if err != nil {
			return nil, false, err
		}
		if !has {
			c.log.say("what was prepared is gone from the site")
			return nil, false, c.write(ctx, func(db records.Queries) error { return db.RemoveSnapshot(ctx, snapshot.ID) })
		}
	}
	return images, len(images) > 0, nil
}

// Snapshot makes the run that keeps a snapshot of a workspace.
func (r *Runner) Snapshot(ctx context.Context, account int64, name, note string) (records.Workspace, error) {
	var w records.Workspace
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		var err error
		if w, err = db.LockWorkspace(ctx, account, name); err != nil {
			return err
		}
		if err := ownOnly(w); err != nil {
			return err
		}
		switch at, err := r.place(w.Site); {
		case w.State != records.Ready && w.State != records.Stopped:
			return fault.New("not-ready", "watch it: domicile follow "+name, "the workspace %s is %s: only one that was made has anything to keep", name, w.State)
		case err != nil:
			return err
		case at.can.Keeper == nil:
			return at.cannot(toKeepSnapshots)
		case w.Mount:
			return fault.New("mounted-folder", "keep the folder's files in your own way, or make a workspace from a git address", "the source of %s is a folder of the host, which is no part of a snapshot", name)
		}
		if err := r.enqueue(ctx, db, tx, w, records.KindSnapshot, plan.Save()); err != nil {
			return err
		}
		_, err = addSnapshot(ctx, db, w, records.Snapshot{Kind: records.Personal, Note: note})
		return err
	})
	return w, busy(err, name)
}

// snapshotOf finds a snapshot that belongs to an account and is kept whole.
func (r *Runner) snapshotOf(ctx context.Context, account, id int64) (s records.Snapshot, p *plan.Plan, err error) {
	s, err = r.o.Store.Snapshot(ctx, id)
	if errors.Is(err, records.ErrNotFound) || err == nil && (s.Account != account || s.Kind != records.Personal) {
		return s, nil, fault.New("no-snapshot", "domicile snapshots lists yours", "you have no snapshot %d", id)
	}
	if err != nil {
		return s, nil, err
	}
	if !s.Ready {
		return s, nil, fault.New("not-ready", "wait until it is kept: domicile follow "+s.Name, "the snapshot %d is not kept yet", id)
	}
	var images map[string]string
	p = &plan.Plan{}
	if err := errors.Join(json.Unmarshal(s.Plan, p), json.Unmarshal(s.Images, &images)); err != nil {
		return s, nil, fmt.Errorf("read the snapshot: %w", err)
	}
	p.From(images)
	return s, p, nil
}

// Return makes the run that makes a workspace again what it was in a snapshot.
func (r *Runner) Return(ctx context.Context, account int64, name string, snapshot int64) (records.Workspace, error) {
	s, p, err := r.snapshotOf(ctx, account, snapshot)
	if err != nil {
		return records.Workspace{}, err
	}
	return r.request(ctx, account, name, records.KindReturn, records.WantRunning, func(db records.Queries, w records.Workspace) ([]plan.Step, error) {
		if err := ownOnly(w); err != nil {
			return nil, err
		}
		if w.Source != s.Source {
			return nil, fault.New("another-source", "make a workspace of it: domicile snapshots make "+fmt.Sprint(s.ID), "the snapshot %d is one of %s, and %s is made from %s", s.ID, s.Source, name, w.Source)
		}
		if w.Site != s.Site {
			return nil, fault.New("another-site", "make a workspace of it there: domicile snapshots make "+fmt.Sprint(s.ID), "the snapshot %d is at the site %s, and %s is at %s", s.ID, s.Site, name, w.Site)
		}
		helpers, err := db.Helpers(ctx, w.ID)
		if err != nil {
			return nil, err
		}
		if len(helpers) > 0 {
			return nil, fault.New("has-helpers", "remove them first: domicile remove "+helpers[0].Name, "the workspace %s has helpers, which use its source", name)
		}
		if w.State == records.Waiting || w.State == records.Making || w.State == records.Removing {
			return nil, records.ErrBusy
		}
		return p.Return(), r.begin(ctx, db, w, s, p)
	})
}

// begin writes into a workspace's record that it begins with a state.
func (r *Runner) begin(ctx context.Context, db records.Queries, w records.Workspace, s records.Snapshot, p *plan.Plan) error {
	if p.Container.Hostname == s.Name {
		p.Container.Hostname = w.Name
	}
	b, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("keep the plan: %w", err)
	}
	return errors.Join(db.SetPlan(ctx, w.ID, s.Commit, b), db.SetBeginsWith(ctx, w.ID, &s.ID))
}

// FromSnapshot makes the record of a workspace that begins with a snapshot, and the run
// that makes it.
func (r *Runner) FromSnapshot(ctx context.Context, account, snapshot int64, name string) (records.Workspace, error) {
	s, p, err := r.snapshotOf(ctx, account, snapshot)
	if err != nil {
		return records.Workspace{}, err
	}
	if name == "" {
		name = s.Name
	}
	if err := CheckName(name); err != nil {
		return records.Workspace{}, err
	}
	variations, err := encodeVariations(p.Variations)
	if err != nil {
		return records.Workspace{}, err
	}
	var w records.Workspace
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		w, err = db.AddWorkspace(ctx, records.Workspace{Account: account, Name: name, Source: s.Source, Ref: s.Ref, File: s.File, Size: s.Size, Site: s.Site,
			State: records.Waiting, Wanted: records.WantRunning, Variations: variations})
		if errors.Is(err, records.ErrTaken) {
			return fault.New("name-taken", "choose another with -name", "you have a workspace %s already", name)
		}
		if err == nil {
			err = r.begin(ctx, db, w, s, p)
		}
		if err != nil {
			return err
		}
		return r.enqueue(ctx, db, tx, w, records.KindReturn, p.Begin())
	})
	return w, busy(err, name)
}

// RemoveSnapshot removes a snapshot. Workspaces that began with it stay.
func (r *Runner) RemoveSnapshot(ctx context.Context, account, id int64) error {
	s, err := r.o.Store.Snapshot(ctx, id)
	if errors.Is(err, records.ErrNotFound) || err == nil && (s.Account != account || s.Kind != records.Personal) {
		return fault.New("no-snapshot", "domicile snapshots lists yours", "you have no snapshot %d", id)
	}
	if err != nil {
		return err
	}
	return r.removeSnapshot(ctx, s)
}

func (r *Runner) removeSnapshot(ctx context.Context, s records.Snapshot) error {
	at, err := r.place(s.Site)
	if err != nil {
		return err
	}
	if at.can.Keeper == nil {
		return at.cannot(toKeepSnapshots)
	}
	if err := at.can.Keeper.RemoveSaved(ctx, s.SiteID()); err != nil {
		return err
	}
	if err := r.o.Store.RemoveSnapshot(ctx, s.ID); err != nil {
		return err
	}
	return r.removeOnItsWay(ctx, s)
}

// removeOnItsWay removes what other sites have of a snapshot that is gone, where a move or a copy of
// its workspace is under way, which finds it no more. A site that does not answer keeps it until
// domicile tidy finds it.
func (r *Runner) removeOnItsWay(ctx context.Context, s records.Snapshot) error {
	if s.Workspace == nil {
		return nil
	}
	runs, err := r.o.Store.Runs(ctx, *s.Workspace, 1)
	if err != nil || len(runs) == 0 || runs[0].Target == "" || runs[0].Ended != nil {
		return err
	}
	w, err := r.o.Store.Workspace(ctx, *s.Workspace)
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	others := []string{w.Site, runs[0].Target}
	var before earlier
	if len(w.Earlier) > 0 && json.Unmarshal(w.Earlier, &before) == nil {
		others = append(others, before.Site)
	}
	slices.Sort(others)
	for _, name := range slices.Compact(others) {
		at, err := r.place(name)
		if err != nil || at.can.Keeper == nil || name == s.Site {
			continue
		}
		if err := at.can.Keeper.RemoveSaved(ctx, s.SiteID()); err != nil {
			r.o.Log.Info("remove what was on its way of a snapshot", "site", name, "error", err)
		}
	}
	return nil
}
