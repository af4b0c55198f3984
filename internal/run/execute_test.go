package run

import (
	"context"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

var single = map[string]string{".devcontainer/devcontainer.json": `{"image": "quay.test/base:12"}`}

// A fault that may pass is tried again and told; the run goes on where it was.
func TestAPassingFaultIsTriedAgain(t *testing.T) {
	b := moor(t, single)
	b.place.When("volume", passing(2))
	w := b.provision(t, "tide")
	r, steps := b.ended(t, w)
	assert.Equal(t, records.Failed, r.State, "there is no agent")
	assert.Contains(t, r.Reason, "there is no agent here")
	assert.Equal(t, 3, steps[plan.StepVolume].Attempts)
	assert.Contains(t, steps[plan.StepVolume].Reason, "tried again: the place does not answer")
	assert.Equal(t, records.Succeeded, steps[plan.StepVolume].State)
	assert.Equal(t, 1, steps[plan.StepContainer].Attempts)
	assert.Equal(t, records.Waiting, steps[plan.StepSource].State, "what comes behind the failed one is not begun")
	lines, err := b.store.Log(t.Context(), r.ID, 0, steps[plan.StepVolume].Position, 10)
	require.NoError(t, err)
	require.Len(t, lines, 2)
	assert.Contains(t, lines[1].Text, "trying again in 2ms (3 of 4)")
}

func TestAFaultThatStaysEndsTheRun(t *testing.T) {
	b := moor(t, single)
	b.place.When("volume", passing(100))
	_, steps := b.ended(t, b.provision(t, "tide"))
	assert.Equal(t, records.Failed, steps[plan.StepVolume].State)
	assert.Equal(t, 4, steps[plan.StepVolume].Attempts, "as often as it may be tried")
	assert.Zero(t, b.place.Times("instance"))
	b.place.When("volume", func(context.Context) error { return fault.New("full", "make room", "the hold is full") })
	_, steps = b.ended(t, b.provision(t, "tide")) // goes on with the same workspace
	assert.Equal(t, 1, steps[plan.StepVolume].Attempts, "a fault that does not pass is not tried again")
	assert.Equal(t, "the hold is full. What to do: make room.", steps[plan.StepVolume].Reason)
}

// Each step's beginning is written down before its work begins, and the end of the one
// before it too.
func TestWhatIsWrittenDownWhileAStepWorks(t *testing.T) {
	b := moor(t, single)
	working, goOn := make(chan struct{}), make(chan struct{})
	b.place.When("volume", func(context.Context) error {
		close(working)
		<-goOn
		return nil
	})
	w := b.provision(t, "tide")
	<-working
	r, err := b.store.Runs(t.Context(), w.ID, 1)
	require.NoError(t, err)
	steps, err := b.store.Steps(t.Context(), r[0].ID)
	require.NoError(t, err)
	states := map[string]string{}
	for _, s := range steps {
		states[s.Name] = s.State
	}
	assert.Equal(t, records.Succeeded, states[plan.StepImage])
	assert.Equal(t, records.Running, states[plan.StepVolume])
	assert.Equal(t, records.Waiting, states[plan.StepContainer])
	lines, err := b.store.Log(t.Context(), r[0].ID, 0, -1, 100)
	require.NoError(t, err)
	assert.Equal(t, "pulling quay.test/base:12", lines[len(lines)-1].Text, "what it printed as well")
	close(goOn)
	b.ended(t, w)
}

// A run that is ended from outside is left, and what follows it begins only then.
func TestARemoveEndsWhatIsUnderWay(t *testing.T) {
	b := moor(t, single)
	working := make(chan struct{})
	left := false
	b.place.When("image quay.test/base:12", func(ctx context.Context) error {
		close(working)
		<-ctx.Done()
		left = true
		return ctx.Err()
	})
	b.place.When("remove", func(context.Context) error {
		assert.True(t, left, "the run before is left")
		return nil
	})
	w := b.provision(t, "tide")
	<-working
	_, err := b.Remove(t.Context(), b.account, "tide")
	require.NoError(t, err)
	b.ended(t, w)
	require.Eventually(t, func() bool { _, err := b.store.Workspace(t.Context(), w.ID); return err != nil }, 10*time.Second, 5*time.Millisecond)
	assert.Equal(t, 1, b.place.Times("remove"))
	assert.Zero(t, b.place.Times("volume"))
}

func fleet() map[string]string {
	return map[string]string{
		".devcontainer/devcontainer.json": `{"dockerComposeFile": "compose.yaml", "service": "work"}`,
		".devcontainer/compose.yaml":      "services:\n  work: { image: quay.test/base:12, command: sleep infinity }\n  db: { image: quay.test/db:15 }\n  twin: { image: quay.test/base:12 }\n",
	}
}

// Images are pulled side by side, the same one once.
func TestImagesArePulledSideBySide(t *testing.T) {
	b := moor(t, fleet())
	own, beside := make(chan struct{}), make(chan struct{})
	meet := func(mine, other chan struct{}) func(context.Context) error {
		return func(ctx context.Context) error {
			close(mine)
			select {
			case <-other:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(10 * time.Second):
				return fault.New("alone", "", "the other one was not begun")
			}
		}
	}
	b.place.When("image quay.test/base:12", meet(own, beside))
	b.place.When("image quay.test/db:15", meet(beside, own))
	r, steps := b.ended(t, b.provision(t, "fleet"))
	assert.Equal(t, records.Succeeded, steps[plan.StepImage].State, steps[plan.StepImage].Reason)
	assert.Equal(t, 1, b.place.Times("image quay.test/base:12"))
	lines, err := b.store.Log(t.Context(), r.ID, 0, steps[plan.StepImage].Position, 10)
	require.NoError(t, err)
	var said []string
	for _, l := range lines {
		said = append(said, l.Text)
	}
	assert.ElementsMatch(t, []string{"pulling quay.test/base:12", "db: pulling quay.test/db:15"}, said, "whose they are is told")
}

// Of several images the first fault ends the step, names whose it is, and does not wait for
// the others.
func TestAnImageThatIsNowhereEndsTheOtherPulls(t *testing.T) {
	b := moor(t, fleet())
	begun := make(chan struct{})
	b.place.When("image quay.test/base:12", func(ctx context.Context) error {
		close(begun)
		<-ctx.Done()
		return ctx.Err()
	})
	b.place.When("image quay.test/db:15", func(context.Context) error {
		<-begun
		return fault.New("image-not-found", "push it", "the registry has no image db:15")
	})
	_, steps := b.ended(t, b.provision(t, "fleet"))
	assert.Equal(t, records.Failed, steps[plan.StepImage].State)
	assert.Equal(t, "service db: the registry has no image db:15. What to do: push it.", steps[plan.StepImage].Reason)
	assert.Equal(t, 1, steps[plan.StepImage].Attempts)
}

// What the site lacks is told when the plan is made, and nothing is begun.
func TestAPlanIsComparedWithTheSite(t *testing.T) {
	b := moor(t, map[string]string{".devcontainer.json": "{\"image\": \"quay.test/base:12\",\n\"hostRequirements\": {\"cpus\": 64}}"})
	require.Eventually(t, func() bool { return !b.Examined(t.Name()).At.IsZero() }, 10*time.Second, 5*time.Millisecond)
	_, steps := b.ended(t, b.provision(t, "vast"))
	assert.Contains(t, steps[plan.StepPlan].Reason, ".devcontainer.json:2: hostRequirements.cpus asks for 64 processors; the site "+t.Name()+" has 4")
	assert.Zero(t, b.place.Times("image quay.test/base:12"))
}

// A plan is read once, and again when it has changed.
func TestPlansAreKeptUntilTheyChange(t *testing.T) {
	b := moor(t, single)
	w := b.provision(t, "tide")
	b.ended(t, w)
	planOf := func() *plan.Plan {
		list, err := b.store.Workspaces(t.Context(), b.account)
		require.NoError(t, err)
		found, err := b.Plans(t.Context(), list)
		require.NoError(t, err)
		return found[w.ID]
	}
	first := planOf()
	require.NotNil(t, first)
	assert.Equal(t, "quay.test/base:12", first.Container.Image)
	assert.Same(t, first, planOf())
	require.NoError(t, b.store.SetPlan(t.Context(), w.ID, "", []byte(`{"container": {"image": "other"}}`)))
	assert.Equal(t, "other", planOf().Container.Image)
	_, err := b.PlanOf(t.Context(), records.Workspace{Name: "never"})
	assert.Equal(t, "never-made", fault.Code(err))
}

// What is prepared is kept in a snapshot: where none can be kept, that is told before anything
// is made.
func TestNothingIsPreparedWhereNothingIsKept(t *testing.T) {
	b := moor(t, map[string]string{".devcontainer.json": `{"image": "quay.test/base:12"}`})
	w, err := b.store.AddWorkspace(t.Context(), records.Workspace{Account: b.account, Name: "ahead@", Source: b.folder, Site: t.Name(), State: records.Waiting, Wanted: records.WantRunning, Kind: records.IsPrepared})
	require.NoError(t, err)
	require.NoError(t, b.store.InTx(t.Context(), func(db records.Queries, tx pgx.Tx) error {
		return b.enqueue(t.Context(), db, tx, w, records.KindPrepare, plan.First(w.Source, ""))
	}))
	r, steps := b.ended(t, w)
	assert.Equal(t, records.Failed, r.State)
	assert.Contains(t, steps[plan.StepPlan].Reason, "keeps no snapshots")
	assert.Equal(t, "site-cannot", steps[plan.StepPlan].Code)
	assert.Zero(t, b.place.Times("volume"))
}
