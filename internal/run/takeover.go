package run

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river/rivertype"

	"domicile/internal/records"
)

const (
	takeOverEvery = 2 * time.Second
	// waitingLong is when a run that nobody took counts as forgotten: the queue lost its
	// job, or all workers are busy, and then another job does no harm.
	waitingLong = 30 * time.Second
)

// jobFor is the job for a run that somebody lost, or that nobody has taken.
func (r *Runner) jobFor(lost records.Run) jobArgs {
	if lost.Holder == nil {
		return jobArgs{Run: lost.ID, Finder: r.instance.ID}
	}
	return jobArgs{Run: lost.ID, Holder: *lost.Holder}
}

// takeOver looks for runs whose holder is gone and gives them to the queue again. The
// queue's own rescue would come an hour later.
func (r *Runner) takeOver(ctx context.Context) {
	told := map[int64]time.Time{} // a job was made for it a moment ago
	for ctx.Err() == nil {
		orphans, err := r.o.Store.OrphanRuns(ctx, waitingLong)
		if err != nil && ctx.Err() == nil {
			r.o.Log.Warn("look for runs without a holder", "error", err)
		}
		for _, o := range orphans {
			if time.Since(told[o.ID]) < waitingLong {
				continue
			}
			var made *rivertype.JobInsertResult
			err := pgx.BeginFunc(ctx, r.o.Store.Pool, func(tx pgx.Tx) (err error) {
				made, err = r.queue.InsertTx(ctx, tx, r.jobFor(o), nil)
				return err
			})
			if err != nil {
				r.o.Log.Warn("take a run over", "run", o.ID, "error", err)
				continue
			}
			if made.UniqueSkippedAsDuplicate {
				continue // one waits already, or is just ending: it is looked again
			}
			told[o.ID] = time.Now()
			r.o.Log.Info("a run lost its holder and is taken over", "run", o.ID)
		}
		for id, at := range told {
			if time.Since(at) > 2*waitingLong {
				delete(told, id)
			}
		}
		pause(ctx, takeOverEvery)
	}
}
