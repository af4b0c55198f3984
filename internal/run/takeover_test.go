package run

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// A run whose job is with an instance that was killed before it took the run is found by
// another one: the dead job counts as running for an hour, and must not be in the way.
func TestAJobThatDiedWithItsInstance(t *testing.T) {
	b := moor(t, single)
	ctx := t.Context()
	w, err := b.store.AddWorkspace(ctx, records.Workspace{Account: b.account, Name: "adrift", Source: b.folder, Site: t.Name(), State: records.Waiting, Wanted: records.WantRunning, Kind: records.IsWorkspace})
	require.NoError(t, err)
	r, err := b.store.AddRun(ctx, w.ID, records.KindProvision, "")
	require.NoError(t, err)
	require.NoError(t, b.store.AddSteps(ctx, r.ID, w.Source, stepsFrom(0, plan.First(w.Source, ""))))
	tx, err := b.store.Pool.Begin(ctx)
	require.NoError(t, err)
	made, err := b.queue.InsertTx(ctx, tx, jobArgs{Run: r.ID}, nil)
	require.NoError(t, err)
	twice, err := b.queue.InsertTx(ctx, tx, jobArgs{Run: r.ID}, nil)
	require.NoError(t, err)
	assert.True(t, twice.UniqueSkippedAsDuplicate, "no run is queued twice")
	_, err = tx.Exec(ctx, "UPDATE river_job SET state = 'running', attempt = 1, attempted_at = now(), attempted_by = '{drowned}' WHERE id = $1", made.Job.ID)
	require.NoError(t, err)
	_, err = tx.Exec(ctx, "UPDATE runs SET created = now() - interval '1 hour' WHERE id = $1", r.ID)
	require.NoError(t, err)
	require.NoError(t, tx.Commit(ctx))
	ended, _ := b.ended(t, w)
	assert.Contains(t, ended.Reason, "there is no agent here", "it was carried out")
}
