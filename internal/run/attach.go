package run

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/plan"
	"domicile/internal/records"
)

const (
	// attachEvery is how often it is tried to make the run while another is under way.
	attachEvery = 500 * time.Millisecond
	// attachFor is how long it is tried for somebody who has gone meanwhile.
	attachFor = 10 * time.Minute
)

// Attached makes the run of postAttachCommand for somebody who connects; ctx ends when that
// person goes. It waits for a run that is under way: earlier stages come first. Those who
// connect while one waits share its run, which begins after they came. It returns when the
// run is made, or there is nothing to run.
func (r *Runner) Attached(ctx context.Context, w records.Workspace) {
	p, err := planOf(w)
	if err != nil || len(p.Attach()) == 0 {
		return
	}
	if !r.waitToAttach(w.ID) {
		return // another one waits already, for both
	}
	for begun := time.Now(); ; pause(r.serving, attachEvery) {
		r.endWait(w.ID) // who comes from here on is not in this try
		err := r.attach(w, p)
		if !errors.Is(err, records.ErrBusy) && !records.Unavailable(err) {
			if err != nil && r.serving.Err() == nil {
				r.o.Log.Warn("run postAttachCommand", "workspace", w.Name, "error", err)
			}
			return
		}
		gone := ctx.Err() != nil && time.Since(begun) > attachFor
		if gone || r.serving.Err() != nil || !r.waitToAttach(w.ID) {
			return
		}
	}
}

func (r *Runner) attach(w records.Workspace, p *plan.Plan) error {
	ctx := r.serving
	return r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		now, err := db.LockWorkspace(ctx, w.Account, w.Name)
		if err != nil || now.State != records.Ready {
			return err
		}
		return r.enqueueFor(ctx, db, tx, now, records.KindAttach, "somebody connected", p.Attach())
	})
}

// waitToAttach tells whether somebody waits for a workspace's run already; if not, who asks
// does from now on.
func (r *Runner) waitToAttach(workspace int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.attaching[workspace] {
		return false
	}
	r.attaching[workspace] = true
	return true
}

func (r *Runner) endWait(workspace int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.attaching, workspace)
}
