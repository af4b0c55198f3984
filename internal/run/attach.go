package run

import (
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// attachEvery is how often it is tried to make the run while another is under way.
const attachEvery = 500 * time.Millisecond

// Attached makes the run of postAttachCommand for somebody who connects. It waits for a run
// that is under way: earlier stages come first. Those who connect while one waits share its
// run, which begins after they came. It returns when the run is made, there is nothing to
// run, or the service stops.
func (r *Runner) Attached(w records.Workspace) {
	p, err := planOf(w)
	if err != nil || len(p.Attach()) == 0 {
		return
	}
	wait := time.Duration(0)   // at first there is mostly nothing to wait for
	for r.waitToAttach(w.ID) { // else another one waits already, for both
		pause(r.serving, wait)
		r.endWait(w.ID) // who comes from here on is not in this try
		err := r.attach(w, p)
		if r.serving.Err() != nil {
			return
		}
		if !errors.Is(err, records.ErrBusy) && !records.Unavailable(err) {
			if err != nil && !errors.Is(err, records.ErrNotFound) { // removed meanwhile
				r.o.Log.Warn("run postAttachCommand", "workspace", w.Name, "error", err)
			}
			return
		}
		wait = attachEvery
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
