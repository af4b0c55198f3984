package run

import (
	"context"
	"errors"
	"time"

	"domicile/internal/records"
)

// leavingEvery is how often it is looked after accounts that are being removed.
const leavingEvery = 5 * time.Second

// removeLeaving removes what is left of accounts that are being removed, and then the
// accounts.
func (r *Runner) removeLeaving(ctx context.Context) {
	for ctx.Err() == nil {
		pause(ctx, leavingEvery)
		list, err := r.o.Store.LeavingAccounts(ctx)
		for _, a := range list {
			err = errors.Join(err, r.removeOf(ctx, a))
		}
		if err != nil && ctx.Err() == nil && !records.Unavailable(err) {
			r.o.Log.Info("remove what is left of an account", "error", err)
		}
	}
}

// pruneEvery is how often it is looked what was kept long enough.
const pruneEvery = 10 * time.Minute

// prune removes, again and again, what was kept long enough.
func (r *Runner) prune(ctx context.Context) {
	for ctx.Err() == nil {
		if err := r.o.Store.Prune(ctx, r.o.Retention); err != nil && ctx.Err() == nil && !records.Unavailable(err) {
			r.o.Log.Warn("remove what was kept long enough", "error", err)
		}
		pause(ctx, pruneEvery)
	}
}

// removeOf goes as far as it can; the rest comes when the runs that it asks for are over.
func (r *Runner) removeOf(ctx context.Context, a records.Account) error {
	workspaces, err := r.o.Store.WorkspacesOf(ctx, a.ID)
	if err != nil {
		return err
	}
	left := len(workspaces)
	for _, w := range workspaces {
		if w.Wanted == records.WantRemoved || w.Parent != nil { // helpers go with their workspaces
			continue
		}
		if _, err := r.Remove(ctx, a.ID, w.Name); err != nil && !errors.Is(err, records.ErrNotFound) {
			return err
		}
	}
	snapshots, err := r.o.Store.SnapshotsOfAccount(ctx, a.ID)
	if err != nil {
		return err
	}
	for _, s := range snapshots {
		if err := r.removeSnapshot(ctx, s); err != nil {
			return err
		}
	}
	if left > 0 {
		return nil
	}
	if err := r.o.Store.RemoveAccount(ctx, a.ID); err != nil && !errors.Is(err, records.ErrNotFound) {
		return err
	}
	r.o.Log.Info("an account was removed with all that was its own", "account", a.Name)
	return nil
}
