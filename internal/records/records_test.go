package records

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/daemons"
	"domicile/internal/daemons/daemonstest"
)

var server *daemons.Postgres

func TestMain(m *testing.M) { os.Exit(daemonstest.Postgres(m, &server)) }

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), server.URL)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func workspace(t *testing.T, s *Store, name string) Workspace {
	t.Helper()
	a, err := s.AddAccount(t.Context(), name+"-owner", "hash", false)
	require.NoError(t, err)
	w, err := s.AddWorkspace(t.Context(), Workspace{Account: a.ID, Name: name, Source: "https://h/" + name, Site: "s", State: Waiting, Wanted: WantRunning})
	require.NoError(t, err)
	return w
}

func TestSeveralInstancesMayMigrateAtOnce(t *testing.T) {
	errs := make(chan error, 4)
	for range cap(errs) {
		go func() {
			s, err := Open(context.WithoutCancel(t.Context()), server.URL)
			if err == nil {
				s.Close()
			}
			errs <- err
		}()
	}
	for range cap(errs) {
		assert.NoError(t, <-errs)
	}
}

func TestTheFirstAccountIsMadeOnce(t *testing.T) {
	s := open(t)
	first := func() error {
		return s.InTx(t.Context(), func(q Queries, _ pgx.Tx) error {
			_, err := q.AddFirstAccount(t.Context(), "skipper", "hash")
			return err
		})
	}
	errs := make(chan error, 3)
	for range cap(errs) {
		go func() { errs <- first() }()
	}
	made := 0
	for range cap(errs) {
		if err := <-errs; err == nil {
			made++
		} else {
			assert.ErrorIs(t, err, ErrTaken)
		}
	}
	assert.LessOrEqual(t, made, 1, "another test may have made one before")
}

func TestOneUnfinishedRunAWorkspace(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "single")
	r, err := s.AddRun(t.Context(), w.ID, KindProvision, "")
	require.NoError(t, err)
	_, err = s.AddRun(t.Context(), w.ID, KindStop, "")
	assert.ErrorIs(t, err, ErrBusy)
	require.NoError(t, s.CancelRuns(t.Context(), w, "ended by stop"))
	_, err = s.AddRun(t.Context(), w.ID, KindStop, "")
	assert.NoError(t, err)
	_, err = s.TakeRun(t.Context(), r.ID, 1)
	assert.ErrorIs(t, err, ErrLost, "an ended run cannot be taken")
	_, err = s.AddWorkspace(t.Context(), Workspace{Account: w.Account, Name: w.Name})
	assert.ErrorIs(t, err, ErrTaken)
}

// hold makes an instance that lives until the returned function is called.
func hold(t *testing.T, s *Store) (*Instance, func()) {
	t.Helper()
	i, err := s.Enlist(t.Context())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	held, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		_ = i.Hold(ctx, func() { close(held) })
	}()
	<-held
	return i, func() { cancel(); <-ended }
}

func TestALeaseOfWhoIsGoneIsTakenOverAtOnce(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "lease")
	r, err := s.AddRun(t.Context(), w.ID, KindProvision, "")
	require.NoError(t, err)
	first, leave := hold(t, s)
	second, leaveToo := hold(t, s)
	defer leaveToo()
	mine, err := s.TakeRun(t.Context(), r.ID, first.ID)
	require.NoError(t, err)
	_, err = s.TakeRun(t.Context(), r.ID, second.ID)
	require.ErrorIs(t, err, ErrLost, "its holder lives")
	require.NoError(t, s.RenewRun(t.Context(), r.ID, first.ID))
	require.NoError(t, s.AddSteps(t.Context(), r.ID, w.Source, []Step{{Name: "fetch", Title: "Fetch"}}))
	leave()
	require.Eventually(t, func() bool {
		orphans, err := s.OrphanRuns(t.Context(), time.Hour)
		return err == nil && len(orphans) == 1 && orphans[0].ID == r.ID
	}, 5*time.Second, 10*time.Millisecond)
	theirs, err := s.TakeRun(t.Context(), r.ID, second.ID)
	require.NoError(t, err)
	// The first one, were it still there, can write no more.
	line := LogLine{Number: 1, At: time.Now(), Text: "fetched"}
	assert.ErrorIs(t, s.Advance(t.Context(), w, mine, []LogLine{line}), ErrLost)
	assert.ErrorIs(t, s.Advance(t.Context(), w, mine, nil, Step{State: Succeeded}), ErrLost)
	assert.ErrorIs(t, s.RenewRun(t.Context(), r.ID, first.ID), ErrLost)
	assert.ErrorIs(t, s.EndRun(t.Context(), w, mine, Succeeded, ""), ErrLost)
	assert.NoError(t, s.Advance(t.Context(), w, theirs, []LogLine{line}, Step{State: Succeeded}))
	lines, err := s.Log(t.Context(), r.ID, 0, -1, 10)
	require.NoError(t, err)
	assert.Len(t, lines, 1, "and the other one's line is not among them")
	assert.NoError(t, s.EndRun(t.Context(), w, theirs, Succeeded, ""))
}

func TestARunWaitsUntilAnEarlierOneIsLeft(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "wait")
	i, leave := hold(t, s)
	earlier, err := s.AddRun(t.Context(), w.ID, KindProvision, "")
	require.NoError(t, err)
	_, err = s.TakeRun(t.Context(), earlier.ID, i.ID)
	require.NoError(t, err)
	require.NoError(t, s.CancelRuns(t.Context(), w, "ended by remove"))
	assert.ErrorIs(t, s.RenewRun(t.Context(), earlier.ID, i.ID), ErrLost, "its holder learns of it")
	earlier.Holder = &i.ID
	assert.ErrorIs(t, s.SetStateByRun(t.Context(), w, earlier, Ready, ""), ErrLost, "and says nothing of the workspace any more")
	next, err := s.AddRun(t.Context(), w.ID, KindRemove, "")
	require.NoError(t, err)
	mustWait := func(want bool) {
		t.Helper()
		wait, err := s.RunMustWait(t.Context(), next.ID)
		require.NoError(t, err)
		assert.Equal(t, want, wait)
	}
	_, err = s.TakeRun(t.Context(), next.ID, i.ID)
	assert.ErrorIs(t, err, ErrLost)
	mustWait(true)
	require.NoError(t, s.LeaveRun(t.Context(), earlier.ID, i.ID))
	mustWait(false)
	_, err = s.TakeRun(t.Context(), next.ID, i.ID)
	assert.NoError(t, err)
	// Who dies does not keep anybody waiting either.
	require.NoError(t, s.CancelRuns(t.Context(), w, "ended"))
	last, err := s.AddRun(t.Context(), w.ID, KindRemove, "")
	require.NoError(t, err)
	leave()
	other, leaveToo := hold(t, s)
	defer leaveToo()
	require.Eventually(t, func() bool {
		_, err := s.TakeRun(t.Context(), last.ID, other.ID)
		return err == nil
	}, 5*time.Second, 10*time.Millisecond)
}

func TestAStepKnowsHowLongItTookLastTime(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "again")
	i, leave := hold(t, s)
	defer leave()
	begun := time.Now().Add(-time.Minute)
	ended := begun.Add(1500 * time.Millisecond)
	for n := range 2 {
		r, err := s.AddRun(t.Context(), w.ID, KindProvision, "")
		require.NoError(t, err)
		require.NoError(t, s.AddSteps(t.Context(), r.ID, w.Source, []Step{{Name: "image", Title: "Pull"}}))
		steps, err := s.Steps(t.Context(), r.ID)
		require.NoError(t, err)
		if n == 0 {
			assert.Nil(t, steps[0].LastMillis)
		} else {
			assert.EqualValues(t, 1500, *steps[0].LastMillis)
		}
		r, err = s.TakeRun(t.Context(), r.ID, i.ID)
		require.NoError(t, err)
		require.NoError(t, s.Advance(t.Context(), w, r, nil, Step{State: Succeeded, Started: &begun, Ended: &ended}))
		require.NoError(t, s.EndRun(t.Context(), w, r, Succeeded, ""))
	}
	require.NoError(t, s.RemoveWorkspace(t.Context(), w))
	millis, err := s.StepMillis(t.Context(), w.Source)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"image": 1500}, millis, "also when the workspace is thrown away")
}

// Workspaces that were made by an earlier version have their plans after it was replaced,
// and what their steps took.
func TestWhatAnEarlierVersionMadeIsThereAfterAnUpgrade(t *testing.T) {
	ctx := t.Context()
	_, err := open(t).Pool.Exec(ctx, "CREATE DATABASE upgraded")
	require.NoError(t, err)
	url := strings.Replace(server.URL, "/postgres?", "/upgraded?", 1)
	before, err := Open(ctx, url)
	require.NoError(t, err)
	w, unplanned := workspace(t, before, "older"), workspace(t, before, "unplanned")
	require.NoError(t, before.SetPlan(ctx, w.ID, "", []byte(`{"image":"one"}`)))
	_, err = before.Pool.Exec(ctx, "INSERT INTO runs (workspace, kind, state) VALUES ($1, 'provision', 'done')", w.ID)
	require.NoError(t, err)
	_, err = before.Pool.Exec(ctx, "INSERT INTO steps (run, position, name, title, state, started, ended) SELECT id, 0, 'image', 'Pull', 'done', now() - interval '2 seconds', now() FROM runs")
	require.NoError(t, err)
	kept, err := before.AddSnapshot(ctx, Snapshot{Kind: Personal, Account: w.Account, Workspace: &w.ID, Name: w.Name, Note: "before the storm", Site: "s", Source: w.Source, Plan: json.RawMessage("{}"), Done: json.RawMessage("{}")})
	require.NoError(t, err)
	require.NoError(t, before.KeepSnapshot(ctx, kept.ID, json.RawMessage(`{"": "image:1"}`), 7))
	require.NoError(t, before.SetBeginsWith(ctx, w.ID, &kept.ID))
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	db := stdlib.OpenDBFromPool(before.Pool)
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	require.NoError(t, err)
	_, err = provider.DownTo(ctx, 5)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	before.Close()

	after, err := Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(after.Close)
	w, err = after.Workspace(ctx, w.ID)
	require.NoError(t, err)
	assert.Positive(t, w.Planned)
	assert.Equal(t, &kept.ID, w.BeginsWith)
	snapshot, err := after.Snapshot(ctx, kept.ID)
	require.NoError(t, err)
	assert.Equal(t, "before the storm", snapshot.Note)
	assert.True(t, snapshot.Ready)
	unplanned, err = after.Workspace(ctx, unplanned.ID)
	require.NoError(t, err)
	assert.Zero(t, unplanned.Planned)
	millis, err := after.StepMillis(ctx, w.Source)
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"image": 2000}, millis)
}

func TestAListLeavesPlansOutAndTellsWhenTheyChange(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "planned")
	planned := func() int64 {
		t.Helper()
		list, err := s.Workspaces(t.Context(), w.Account)
		require.NoError(t, err)
		require.Len(t, list, 1)
		assert.Nil(t, list[0].Plan)
		return list[0].Planned
	}
	assert.Zero(t, planned(), "none yet")
	require.NoError(t, s.SetPlan(t.Context(), w.ID, "", []byte(`{"image":"one"}`)))
	first := planned()
	require.NoError(t, s.KeepEarlier(t.Context(), w.ID))
	require.NoError(t, s.SetPlan(t.Context(), w.ID, "", []byte(`{"image":"two"}`)))
	second := planned()
	require.NoError(t, s.PutEarlierBack(t.Context(), w.ID))
	assert.NotEqual(t, first, second)
	assert.NotEqual(t, second, planned(), "the earlier one is there again")
	plans, err := s.Plans(t.Context(), []int64{w.ID})
	require.NoError(t, err)
	assert.JSONEq(t, `{"image":"one"}`, string(plans[w.ID].Plan))
	assert.Equal(t, planned(), plans[w.ID].Planned)
}

func TestChangesAreToldWhenTheyAreCommitted(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "told")
	listening, events := make(chan struct{}), make(chan Event, 10)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() { _ = s.Listen(ctx, func() { close(listening) }, func(e Event) { events <- e }) }()
	<-listening
	undone := errors.New("undone")
	assert.ErrorIs(t, s.InTx(t.Context(), func(q Queries, _ pgx.Tx) error {
		require.NoError(t, q.SetWorkspaceState(t.Context(), w, Failed, "never"))
		return undone
	}), undone)
	require.NoError(t, s.SetWorkspaceState(t.Context(), w, Ready, ""))
	assert.Equal(t, Event{Type: "workspace", Account: w.Account, Workspace: "told", State: Ready}, <-events)
}

func TestUnavailable(t *testing.T) {
	s := open(t)
	_, err := Open(t.Context(), "postgres://nobody@127.0.0.1:9/x?sslmode=disable")
	assert.True(t, Unavailable(err), "%v", err)
	_, err = s.Workspace(t.Context(), -1)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.False(t, Unavailable(err))
	assert.False(t, Unavailable(nil))
}
