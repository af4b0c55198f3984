package run

import (
	"context"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// halfway makes the record of a run as a worker leaves it that is killed right after it wrote
// down that a step failed: nobody holds the run, and its workspace knows of nothing.
func (b *berth) halfway(t *testing.T, kind, state, step string) records.Workspace {
	t.Helper()
	ctx := t.Context()
	var w records.Workspace
	require.NoError(t, b.store.InTx(ctx, func(db records.Queries, tx pgx.Tx) (err error) {
		if w, err = db.AddWorkspace(ctx, records.Workspace{Account: b.account, Name: "halfway-" + kind, Source: b.folder, Site: t.Name(), State: state, Wanted: records.WantRunning, Kind: records.IsWorkspace}); err != nil {
			return err
		}
		if err := db.SetPlan(ctx, w.ID, "", []byte(`{"container": {"image": "quay.test/base:12"}}`)); err != nil {
			return err
		}
		r, err := db.AddRun(ctx, w.ID, kind, "")
		if err != nil {
			return err
		}
		if err := db.AddSteps(ctx, r.ID, w.Source, []records.Step{{Name: step, Title: "A step"}}); err != nil {
			return err
		}
		_, err = tx.Exec(ctx, "UPDATE steps SET state = 'failed', reason = 'the mast broke', attempts = 1 WHERE run = $1", r.ID)
		if err == nil {
			_, err = tx.Exec(ctx, "UPDATE runs SET state = 'running', created = now() - interval '1 hour' WHERE id = $1", r.ID)
		}
		return err
	}))
	return w
}

// A run whose worker was killed between "the step failed" and "the run failed" is ended by the
// next one, which does not do the step again.
func TestARunThatFailedHalfway(t *testing.T) {
	b := moor(t, single)
	for kind, want := range map[string]struct{ before, after, step string }{
		records.KindProvision: {records.Making, records.Failed, plan.StepVolume},
		records.KindStart:     {records.Starting, records.Failed, plan.StepAgent},
		records.KindStop:      {records.Stopping, records.Failed, plan.StepStop},
		records.KindRebuild:   {records.Ready, records.Ready, plan.StepVolume}, // it had changed nothing yet
	} {
		w := b.halfway(t, kind, want.before, want.step)
		r, steps := b.ended(t, w)
		assert.Equal(t, records.Failed, r.State, kind)
		assert.Contains(t, r.Reason, "the mast broke", kind)
		assert.Equal(t, 1, steps[want.step].Attempts, "%s: it is not done again", kind)
		now, err := b.store.Workspace(context.WithoutCancel(t.Context()), w.ID)
		require.NoError(t, err)
		if kind == records.KindRebuild { // a place without containers is looked at meanwhile
			assert.Contains(t, []string{records.Ready, records.Lost}, now.State)
			continue
		}
		assert.Equal(t, want.after, now.State, kind)
	}
}
