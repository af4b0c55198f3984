package run

import (
	"context"
	"slices"
	"time"

	"domicile/internal/amount"
	"domicile/internal/site"
)

const (
	// sweepEvery is how often it is looked for images that nothing used for long.
	sweepEvery = time.Hour
	// roomEvery is how often room is made on a disk that is short, roomShare from how many
	// times the reserve on it counts as short: before anybody's workspace is told or stopped.
	roomEvery = time.Minute
	roomShare = 4
)

// sweep removes, again and again, images at a site that nothing used for long. They are made
// again where they are wanted.
func (r *Runner) sweep(ctx context.Context, name string) {
	for ctx.Err() == nil {
		pause(ctx, sweepEvery)
		if r.o.KeepImages <= 0 || ctx.Err() != nil {
			continue
		}
		before := time.Now().Add(-r.o.KeepImages)
		if err := r.dropImages(ctx, name, func(l site.Leftover) bool { return l.Made.Before(before) }); err != nil && ctx.Err() == nil {
			r.o.Log.Info("look for images that nothing uses", "site", name, "error", err)
		}
	}
}

// makeRoom removes images that nothing uses, the oldest first, until a disk is not short any
// more.
func (w *diskWatch) makeRoom(ctx context.Context) error {
	if time.Since(w.roomMade) < roomEvery {
		return nil
	}
	w.roomMade = time.Now()
	return w.dropImages(ctx, w.site, func(site.Leftover) bool {
		free, known, err := w.at.Free(ctx)
		return err == nil && known && free <= roomShare*w.o.DiskReserve
	})
}

// dropImages removes those unused images of a site that may go, the oldest first. Leftovers
// never has one that is just being made, or that a workspace was planned with.
func (r *Runner) dropImages(ctx context.Context, name string, mayGo func(site.Leftover) bool) error {
	at, known := r.places.find(name)
	if !known || at.can.Sweeper == nil {
		return nil
	}
	list, err := at.can.Sweeper.Leftovers(ctx, r.known)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(l site.Leftover) bool { return !l.Again || l.Made.IsZero() })
	slices.SortFunc(list, func(a, b site.Leftover) int { return a.Made.Compare(b.Made) })
	for _, l := range list {
		if !mayGo(l) {
			continue
		}
		if err := at.can.Sweeper.RemoveLeftover(ctx, l); err != nil {
			r.o.Log.Info("what nothing seemed to use was not removed", "site", name, "kind", l.Kind, "name", l.Name, "error", err)
			continue
		}
		r.o.Log.Info("what nothing uses was removed", "site", name, "kind", l.Kind, "name", l.Name, "made", l.Made, "frees", amount.Of(l.Bytes))
	}
	return nil
}
