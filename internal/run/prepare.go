package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// cleanStep removes what a snapshot was prepared in.
var cleanStep = plain((*execution).clean)

// preparedUnused is how long what was prepared, and is not followed, stays without use.
const preparedUnused = 14 * 24 * time.Hour

// mostKept is how many workspaces are kept warm of one source at most.
const mostKept = 20

// Prepare makes the run that makes ready, ahead of time, what provisioning of a source then
// begins with: image and content up to updateContentCommand. With follow it is done again
// whenever the branch moves. keep is how many workspaces are kept warm of it.
func (r *Runner) Prepare(ctx context.Context, q Request, follow bool, keep int) (records.Workspace, error) {
	address, err := source.Parse(q.Source)
	if err != nil {
		return records.Workspace{}, err
	}
	if address.Git == "" {
		return records.Workspace{}, fault.New("bad-source", "give a git address", "a folder cannot be prepared: nothing tells when it changed")
	}
	if err := source.CheckRef(q.Ref); err != nil {
		return records.Workspace{}, err
	}
	if q.Site, err = r.siteFor(q.Site); err != nil {
		return records.Workspace{}, err
	}
	if err := r.hasSize(q); err != nil {
		return records.Workspace{}, err
	}
	if keep < 0 || keep > mostKept {
		return records.Workspace{}, fault.New("bad-limit", fmt.Sprintf("keep between 0 and %d", mostKept), "%d workspaces cannot be kept warm of one source", keep)
	}
	// No person's workspace can have a name with @ in it.
	name := suggestName(address) + "@" + strings.ReplaceAll(q.Ref, "/", "-")
	if q.File != "" {
		name += ":" + strings.Trim(notName.ReplaceAllString(strings.ToLower(q.File), "-"), "-")
	}
	var w records.Workspace
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		w, err = db.AddWorkspace(ctx, records.Workspace{Account: q.Account, Name: name, Source: address.String(), Ref: q.Ref, File: q.File, Size: q.Size, Site: q.Site,
			State: records.Waiting, Wanted: records.WantRunning, Kind: records.IsPrepared})
		if errors.Is(err, records.ErrTaken) {
			w, err = db.LockWorkspace(ctx, q.Account, name)
			if err == nil && w.Source != address.String() {
				err = fault.New("name-taken", "remove the other one first: domicile prepare remove "+name, "you prepare %s under the name %s already", w.Source, name)
			}
			if err == nil && w.State != records.Stopped && w.State != records.Failed {
				err = records.ErrBusy
			}
			if err == nil { // what is asked for now counts
				w.Size, w.Site = q.Size, cmp.Or(q.Site, w.Site)
				err = errors.Join(db.SetSize(ctx, w.ID, w.Size), db.SetSite(ctx, w.ID, w.Site))
			}
		}
		if err != nil {
			return err
		}
		snapshots := true
		if at, err := r.place(w.Site); w.Site != "" && err == nil && at.can.Keeper == nil {
			if keep == 0 {
				return at.cannot(toKeepSnapshots) // then nothing can be prepared there
			}
			snapshots = false
		}
		if err := errors.Join(db.Follow(ctx, w.ID, follow), db.SetKeep(ctx, w.ID, keep)); err != nil {
			return err
		}
		if !snapshots { // each that is kept warm is made whole
			return db.SetWorkspaceState(ctx, w, records.Stopped, "")
		}
		return r.enqueue(ctx, db, tx, w, records.KindPrepare, plan.First(w.Source, w.Ref))
	})
	return w, busy(err, name)
}

// clean removes what a source was prepared in, and earlier snapshots of it.
func (c *execution) clean(ctx context.Context, id string) error {
	if err := c.at.Remove(ctx, id); err != nil {
		return err
	}
	if err := c.o.Source.Forget(id); err != nil {
		return err
	}
	list, err := c.o.Store.SnapshotsOf(ctx, c.workspace.ID)
	if err != nil {
		return err
	}
	for i, s := range list {
		if i > 0 { // the newest comes first
			if err := c.removeSnapshot(ctx, s); err != nil {
				c.log.say("what was prepared earlier could not be removed: " + err.Error()) // domicile tidy finds it
			}
		}
	}
	if err := c.write(ctx, func(db records.Queries) error { return db.ReplaceDone(ctx, c.workspace.ID, nil) }); err != nil {
		return err
	}
	return c.setState(ctx, records.Stopped, "")
}

// RemovePrepared removes what an account has prepared under a name.
func (r *Runner) RemovePrepared(ctx context.Context, account int64, name string) error {
	w, err := r.o.Store.WorkspaceByName(ctx, account, name)
	if errors.Is(err, records.ErrNotFound) || err == nil && w.Kind != records.IsPrepared {
		return fault.New("nothing-prepared", "domicile prepare lists it", "you have prepared nothing under the name %s", name)
	}
	if err != nil {
		return err
	}
	return r.dropPrepared(ctx, w)
}

func (r *Runner) dropPrepared(ctx context.Context, w records.Workspace) error {
	if err := r.dropKept(ctx, w); err != nil {
		return err
	}
	list, err := r.o.Store.SnapshotsOf(ctx, w.ID)
	if err != nil {
		return err
	}
	for _, s := range list {
		if err := r.removeSnapshot(ctx, s); err != nil {
			return err
		}
	}
	_, err = r.request(ctx, w.Account, w.Name, records.KindRemove, records.WantRemoved, func(records.Queries, records.Workspace) ([]plan.Step, error) { return plan.Remove(), nil })
	return err
}

// followBranches prepares again what moved, and removes what nobody uses any more.
func (r *Runner) followBranches(ctx context.Context) {
	for ctx.Err() == nil {
		pause(ctx, min(r.o.LookEvery, 10*time.Second))
		if err := r.lookAtBranches(ctx); err != nil && ctx.Err() == nil {
			r.o.Log.Warn("look at followed branches", "error", err)
		}
	}
}

func (r *Runner) lookAtBranches(ctx context.Context) error {
	list, err := r.o.Store.PreparedWorkspaces(ctx, 0)
	if err != nil || len(list) == 0 {
		return err
	}
	followed, err := r.o.Store.Followed(ctx)
	if err != nil {
		return err
	}
	for _, w := range list {
		if followed[w.ID] {
			err = r.lookAtBranch(ctx, w)
		} else {
			err = r.dropUnused(ctx, w)
		}
		if err != nil {
			r.o.Log.Info("look at what is prepared", "name", w.Name, "error", err)
		}
	}
	return nil
}

func (r *Runner) lookAtBranch(ctx context.Context, w records.Workspace) error {
	if mine, err := r.o.Store.TakeLook(ctx, w.ID, r.o.LookEvery); err != nil || !mine {
		return err
	}
	address, err := source.Parse(w.Source)
	if err != nil {
		return err
	}
	login, err := r.o.Vault.Login(ctx, w.Account, address.Host())
	if err != nil {
		return err
	}
	commit, err := r.o.Source.Tip(ctx, source.Want{Address: address, Ref: w.Ref, Login: login})
	if err != nil || commit == w.Commit {
		return err
	}
	err = r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		return r.enqueueFor(ctx, db, tx, w, records.KindPrepare, fmt.Sprintf("the branch moved to %.12s", commit), plan.First(w.Source, w.Ref))
	})
	if errors.Is(err, records.ErrBusy) {
		return nil
	}
	return err
}

func (r *Runner) dropUnused(ctx context.Context, w records.Workspace) error {
	list, err := r.o.Store.SnapshotsOf(ctx, w.ID)
	if err != nil || len(list) == 0 || w.Keep > 0 || time.Since(list[0].Used) < preparedUnused {
		return err
	}
	r.o.Log.Info("what was prepared is not used any more and is removed", "name", w.Name)
	return r.dropPrepared(ctx, w)
}
