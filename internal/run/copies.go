package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// copyStep brings the copy that was just kept to where copies are kept, and forgets earlier ones.
var copyStep = plain((*execution).copy)

const (
	// copyLook is how often it is looked for workspaces of which a copy is to be kept.
	copyLook = 2 * time.Second
	// copyPause is how long nothing is done at a site where something went wrong.
	copyPause = 20 * time.Second
	// copyAgain is how long after a copy that could not be kept another is tried.
	copyAgain = 10 * time.Minute
	// leastCopies is how often copies are kept at the most.
	leastCopies = time.Minute
)

// copies is the rule of a site for the copies that are kept of its workspaces at another one.
type copies struct {
	Every time.Duration `json:"every"`
	Site  string        `json:"site"`
}

func (c copies) String() string {
	every := c.Every.String()
	for _, nothing := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(every, nothing) {
			every = every[:len(every)-2]
		}
	}
	return every + "@" + c.Site
}

// parseCopies reads a rule, as EVERY@SITE.
func parseCopies(text string) (c copies, err error) {
	every, site, found := strings.Cut(text, "@")
	if c.Every, err = time.ParseDuration(every); err != nil || !found || site == "" || c.Every < leastCopies {
		return c, fault.New("bad-limit", "write it as 6h@this-host, or none", "%q is no rule for copies: it says how often (a minute at least) and at which site", text)
	}
	c.Site = site
	return c, nil
}

// judgeCopies refuses a rule that a site cannot keep.
func (r *Runner) judgeCopies(site string, c copies) error {
	from, err := r.place(site)
	if err != nil {
		return err
	}
	to, err := r.place(c.Site)
	switch {
	case err != nil:
		return err
	case site == c.Site:
		return fault.New("bad-limit", "name another site", "copies of what is at %s are of use elsewhere alone", site)
	case from.can.Keeper == nil || from.can.Carrier == nil:
		return from.cannot(toMove)
	case to.can.Keeper == nil || to.can.Carrier == nil || to.can.Apart:
		return to.cannot("keeps no copies of what others have")
	}
	return nil
}

// keepCopies keeps copies of the workspaces of a site, until ctx ends, where it has a rule for that,
// and what is found there that was given up.
func (r *Runner) keepCopies(ctx context.Context, site string) {
	for ctx.Err() == nil {
		pause(ctx, copyLook)
		at, known := r.places.find(site) // its rule may be another by now
		if !known || !r.answers(site) {
			continue
		}
		err := r.keepFound(ctx, at)
		if err == nil && at.own.Copies != nil {
			err = r.copyNext(ctx, site, *at.own.Copies)
		}
		if err == nil || ctx.Err() != nil {
			continue
		}
		if !fault.IsTransient(err) && !records.Unavailable(err) {
			r.o.Log.Warn("keep copies", "site", site, "error", err)
		}
		pause(ctx, copyPause)
	}
}

// copyNext begins with the copy of one workspace of a site: one at a time.
func (r *Runner) copyNext(ctx context.Context, site string, rule copies) error {
	if n, err := r.o.Store.Copying(ctx, site); err != nil || n > 0 {
		return err
	}
	w, err := r.o.Store.CopyDue(ctx, rule.due(site))
	if errors.Is(err, records.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil {
			return err
		}
		due := rule.due(site)
		due.Workspace = now.ID
		if _, err := db.CopyDue(ctx, due); err != nil { // somebody else was faster
			return err
		}
		if err := r.enqueueFor(ctx, db, tx, now, records.KindCopy, "the site "+now.Site+" has a rule for copies", plan.Copy(rule.Site)); err != nil {
			return err
		}
		if _, err := addSnapshot(ctx, db, now, records.Snapshot{Kind: records.Personal, Copy: true, Note: "a copy of what is at " + now.Site + ", by its rule"}); err != nil {
			return err
		}
		return db.TargetRun(ctx, now.ID, rule.Site, "", nil)
	})
	if errors.Is(err, records.ErrBusy) || errors.Is(err, records.ErrNotFound) {
		return nil // something is under way: later
	}
	return err
}

// due is what a copy of a workspace of a site is due by.
func (c copies) due(site string) records.Due {
	return records.Due{Site: site, At: c.Site, Every: c.Every, Again: max(copyAgain, c.Every)}
}

// copy brings what this run has kept to the site where copies are kept.
func (c *execution) copy(ctx context.Context, _ string) error {
	to, err := c.place(c.run.Target)
	if err == nil {
		err = c.judgeCopies(c.at.name, copies{Site: to.name})
	}
	if err != nil {
		return err
	}
	snapshot, images, err := c.kept(ctx)
	if err != nil {
		return err
	}
	if snapshot.Site != to.name { // else an earlier worker got as far
		if err := c.bringSnapshot(ctx, to, snapshot, images); err != nil {
			return err
		}
		if err := c.write(ctx, func(db records.Queries) error { return db.SetSnapshotSite(ctx, snapshot.ID, to.name) }); err != nil {
			return err
		}
		snapshot.Site = to.name
	}
	if err := c.dropCopy(ctx, c.at, snapshot); err != nil { // the copy is kept all the same
		c.log.say("what was kept at " + c.at.name + " on its way could not be removed: " + err.Error())
	}
	return c.forgetCopies(ctx, func(s records.Snapshot) bool { return s.ID != snapshot.ID })
}

// forgetCopies removes copies of the workspace.
func (c *execution) forgetCopies(ctx context.Context, which func(records.Snapshot) bool) error {
	list, err := c.o.Store.SnapshotsOf(ctx, c.workspace.ID)
	if err != nil {
		return err
	}
	for _, s := range list {
		if !s.Copy || !which(s) {
			continue
		}
		if err := c.removeSnapshot(ctx, s); err != nil {
			c.log.say("an earlier copy could not be removed: " + err.Error()) // domicile tidy finds it
		}
	}
	return nil
}

// dropCopies ends a run that could not keep a copy: what it has kept is of no use where the
// workspace is. Earlier copies stay.
func (c *execution) dropCopies(ctx context.Context, failed *records.Step, _ bool) error {
	if err := c.forgetUnready(ctx); err != nil {
		return err
	}
	if err := c.forgetCopies(ctx, func(s records.Snapshot) bool { return s.Site == c.at.name && !s.Created.Before(c.run.Created) }); err != nil {
		return err
	}
	return c.failRun(ctx, c.workspace.State, "no copy was kept: "+failed.Reason)
}

// keepFound keeps what is found at a site that did not answer, of workspaces that were made anew
// elsewhere meanwhile: as a snapshot there, so that nothing is lost and nothing runs twice.
func (r *Runner) keepFound(ctx context.Context, at place) error {
	list, err := r.o.Store.LeftBehind(ctx, at.name)
	if err != nil {
		return err
	}
	for _, l := range list {
		if err := r.keepLeft(ctx, at, l); err != nil {
			return fmt.Errorf("keep what was left of the workspace %d: %w", l.Workspace, err)
		}
	}
	return nil
}

func (r *Runner) keepLeft(ctx context.Context, at place, l records.LeftBehind) error {
	id := records.Workspace{ID: l.Workspace}.SiteID()
	w, err := r.o.Store.Workspace(ctx, l.Workspace)
	if err != nil {
		return err
	}
	if len(w.Earlier) > 0 { // it is not yet what it is to be
		return nil
	}
	mine, err := r.o.Store.TakeLeftBehind(ctx, l)
	if err != nil || !mine {
		return err
	}
	turn, done := context.WithTimeout(ctx, records.LeftLease-time.Minute)
	defer done()
	_, found, err := at.Find(turn, id)
	if err == nil && found && at.can.Keeper != nil {
		err = r.saveLeft(turn, at, id, l)
	}
	if err == nil {
		err = at.Remove(turn, id)
	}
	if err != nil {
		return errors.Join(err, r.o.Store.LetLeftBehind(context.WithoutCancel(ctx), l))
	}
	return r.o.Store.ForgetLeftBehind(ctx, l.Site, l.Workspace)
}

// saveLeft keeps the snapshot of what was left, unless an earlier attempt has.
func (r *Runner) saveLeft(ctx context.Context, at place, id string, l records.LeftBehind) error {
	if _, err := r.o.Store.Snapshot(ctx, l.Snapshot); !errors.Is(err, records.ErrNotFound) {
		return err
	}
	if err := at.Stop(ctx, id, leftGrace, true); err != nil {
		return err
	}
	snapshot := records.Snapshot{ID: l.Snapshot}
	saved, err := at.can.Keeper.Save(ctx, id, snapshot.SiteID(), func(string) {})
	if err != nil {
		return err
	}
	images, err := json.Marshal(saved.Images)
	if err != nil {
		return err
	}
	if err := r.o.Store.AddFound(ctx, l, images, saved.Bytes); err != nil {
		return err
	}
	r.o.Log.Info("what a workspace had left at a site is kept as a snapshot", "workspace", id, "site", at.name, "snapshot", l.Snapshot)
	return nil
}

// leftGrace is how long the programs have to end that still run where a workspace was.
const leftGrace = 10 * time.Second
