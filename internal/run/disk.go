package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/amount"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
)

const (
	// diskEvery is how often the free disk of a site is looked at; a measurement of what each
	// workspace has written looks at every file, and is made when it matters.
	diskEvery = 2 * time.Second
	// toldFor is how long who is told of a short disk has before it is told again.
	toldFor = 10 * time.Minute
)

// watchDisk keeps a workspace from filling the disk that it shares with all others: who has
// written most since it was last measured is told while a little is left, and stopped
// before nothing is.
func (r *Runner) watchDisk(ctx context.Context, name string, m site.Measurer) {
	w := &diskWatch{Runner: r, site: name, at: m, told: map[int64]time.Time{}}
	for ctx.Err() == nil {
		if err := w.look(ctx); err != nil && ctx.Err() == nil {
			r.o.Log.Info("look at the disk of a site", "site", name, "error", err)
		}
		pause(ctx, diskEvery)
	}
}

// diskWatch is what is known of the disk of one site.
type diskWatch struct {
	*Runner
	site   string
	at     site.Measurer
	before map[string]int64 // what each workspace had written when it was last measured
	told   map[int64]time.Time
	// roomMade is when images that nothing uses were last looked for.
	roomMade time.Time
}

func (w *diskWatch) look(ctx context.Context) error {
	reserve := w.o.DiskReserve
	free, known, err := w.at.Free(ctx)
	if err == nil && known && reserve > 0 && free <= roomShare*reserve {
		if err := w.makeRoom(ctx); err != nil && ctx.Err() == nil {
			w.o.Log.Warn("make room on the disk of a site", "site", w.site, "error", err)
		}
		free, known, err = w.at.Free(ctx)
	}
	if err != nil || !known || reserve <= 0 || free > 2*reserve {
		w.before = nil
		return err
	}
	now, err := w.at.Written(ctx)
	if err != nil {
		return err
	}
	before := w.before
	w.before = now
	if before == nil {
		return nil // who writes is seen at the next look
	}
	list, err := w.o.Store.WorkspacesAt(ctx, w.site)
	if err != nil {
		return err
	}
	writer, found := most(list, now, before)
	if !found {
		return nil
	}
	if free, _, err = w.at.Free(ctx); err != nil {
		return err
	}
	size := now[writer.SiteID()]
	if free > reserve {
		if time.Since(w.told[writer.ID]) < toldFor {
			return nil
		}
		w.told[writer.ID] = time.Now()
		w.o.Log.Warn("a site's disk runs short", "site", w.site, "free", free, "most by", writer.Name, "written", size)
		return w.tell(ctx, writer, fmt.Sprintf("The disk of the site %s has only %s left, and this workspace has written most (%s). Free some: it is stopped before nothing is left.", w.site, amount.Of(free), amount.Of(size)))
	}
	w.o.Log.Warn("a workspace is stopped: the disk of its site is nearly full", "site", w.site, "free", free, "workspace", writer.Name, "written", size)
	return w.stopWriter(ctx, writer, fmt.Sprintf("the disk of the site %s had only %s left, and this workspace had written most: %s", w.site, amount.Of(free), amount.Of(size)))
}

// grows is from what on a workspace counts as writing, between two measurements.
const grows = 8 << 20

// most finds the running workspace that has written most since it was last measured. Who
// has written nothing since is left alone, however large: stopping it frees nothing.
func most(list []records.Workspace, now, before map[string]int64) (w records.Workspace, found bool) {
	largest := int64(grows)
	for _, x := range list {
		running := x.State == records.Ready || x.State == records.Making || x.State == records.Starting
		if grown := now[x.SiteID()] - before[x.SiteID()]; running && grown > largest {
			w, largest, found = x, grown, true
		}
	}
	return w, found
}

// stopWriter stops a workspace, whatever it is doing.
func (r *Runner) stopWriter(ctx context.Context, w records.Workspace, why string) error {
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil {
			return err
		}
		if now.State == records.Stopping || now.State == records.Stopped {
			return nil
		}
		if err := db.CancelRuns(ctx, now, "ended: "+why); err != nil {
			return err
		}
		if err := db.SetWanted(ctx, w.ID, records.WantStopped); err != nil {
			return err
		}
		return r.enqueueFor(ctx, db, tx, now, records.KindStop, why, plan.Stop())
	})
	if errors.Is(err, records.ErrBusy) || errors.Is(err, records.ErrNotFound) {
		return nil
	}
	return err
}
