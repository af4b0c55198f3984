package run

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/records"
)

// attachEvery is how often it is tried to make the run while another is under way.
const attachEvery = 500 * time.Millisecond

// Attached makes the run of postAttachCommand for somebody who is the first to connect. It
// waits for a run that is under way: earlier stages come first. It returns when the run is
// made, there is nothing to run, or ctx ends because the person has gone.
func (r *Runner) Attached(ctx context.Context, w records.Workspace) {
	p, err := planOf(w)
	if err != nil || len(p.Attach()) == 0 {
		return
	}
	for ctx.Err() == nil {
		err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
			now, err := db.LockWorkspace(ctx, w.Account, w.Name)
			if err != nil || now.State != records.Ready {
				return err
			}
			return r.enqueueFor(ctx, db, tx, now, records.KindAttach, "somebody connected", p.Attach())
		})
		if !errors.Is(err, records.ErrBusy) && !records.Unavailable(err) {
			if err != nil && ctx.Err() == nil {
				r.o.Log.Warn("run postAttachCommand", "workspace", w.Name, "error", err)
			}
			return
		}
		pause(ctx, attachEvery)
	}
}
