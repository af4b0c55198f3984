package records

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// carried is a run of a workspace that an instance carries out.
func carried(t *testing.T, s *Store, name string, holder int64) (Workspace, Run) {
	t.Helper()
	w := workspace(t, s, name)
	r, err := s.AddRun(t.Context(), w.ID, KindRebuild, "")
	require.NoError(t, err)
	r, err = s.TakeRun(t.Context(), r.ID, holder)
	require.NoError(t, err)
	return w, r
}

// Who lost a run writes nothing more of it: neither its own records nor the workspace's.
func TestWhoLostARunWritesNothing(t *testing.T) {
	s := open(t)
	i, leave := hold(t, s)
	defer leave()
	w, r := carried(t, s, "fenced", i.ID)
	done := func(db Queries, _ pgx.Tx) error {
		return db.SetDone(t.Context(), w.ID, Done{Step: "source", Digest: "d"})
	}
	require.NoError(t, s.AsHolder(t.Context(), r, done))
	require.NoError(t, s.CancelRuns(t.Context(), w, "ended by stop"))
	require.NoError(t, s.DropDone(t.Context(), w.ID, "source"))
	assert.ErrorIs(t, s.AsHolder(t.Context(), r, done), ErrLost)
	assert.ErrorIs(t, s.SetStateByRun(t.Context(), w, r, Failed, ""), ErrLost)
	found, err := s.DoneSteps(t.Context(), w.ID)
	require.NoError(t, err)
	assert.Empty(t, found)

	// What is being written is committed before the run can be ended from outside.
	_, r = carried(t, s, "fenced-too", i.ID)
	w, err = s.Workspace(t.Context(), r.Workspace)
	require.NoError(t, err)
	ended := make(chan error, 1)
	require.NoError(t, s.AsHolder(t.Context(), r, func(db Queries, _ pgx.Tx) error {
		go func() { ended <- s.CancelRuns(context.WithoutCancel(t.Context()), w, "ended by stop") }()
		require.Eventually(t, func() bool { // it waits for this transaction
			var waiting bool
			err := s.db.QueryRow(t.Context(), "SELECT EXISTS (SELECT 1 FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE 'WITH%UPDATE runs%' OR wait_event_type = 'Lock' AND query LIKE 'UPDATE runs%')").Scan(&waiting)
			return err == nil && waiting
		}, 10*time.Second, 5*time.Millisecond)
		return db.SetDone(t.Context(), w.ID, Done{Step: "source", Digest: "d"})
	}))
	require.NoError(t, <-ended)
}

// A batch of lines whose answer was lost is written again, and the run goes on.
func TestLinesAreWrittenAgain(t *testing.T) {
	s := open(t)
	i, leave := hold(t, s)
	defer leave()
	w, r := carried(t, s, "repeated", i.ID)
	defer func() { assert.NoError(t, s.CancelRuns(t.Context(), w, "over")) }()
	lines := []LogLine{{Number: 1, Step: 0, At: time.Now(), Text: "one"}, {Number: 2, Step: 0, At: time.Now(), Text: "two"}}
	for range 2 {
		require.NoError(t, s.Advance(t.Context(), w, r, lines))
	}
	got, err := many[struct{ Text string }](t.Context(), s.db, "SELECT text FROM log WHERE run = $1 ORDER BY number", r.ID)
	require.NoError(t, err)
	assert.Equal(t, []struct{ Text string }{{"one"}, {"two"}}, got)
}

// Who looked from outside changes a state only where it is still so, and nobody is at work.
func TestASeenState(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "seen")
	state := func() string {
		now, err := s.Workspace(t.Context(), w.ID)
		require.NoError(t, err)
		return now.State
	}
	seen := w
	seen.State = Ready
	require.NoError(t, s.SetSeenState(t.Context(), seen, Lost, "gone"))
	assert.Equal(t, Waiting, state(), "it was something else meanwhile")
	r, err := s.AddRun(t.Context(), w.ID, KindProvision, "")
	require.NoError(t, err)
	require.NoError(t, s.SetSeenState(t.Context(), w, Lost, "gone"))
	assert.Equal(t, Waiting, state(), "a run is under way")
	require.NoError(t, s.CancelRuns(t.Context(), w, "over"))
	require.NoError(t, s.SetSeenState(t.Context(), w, Lost, "gone"))
	assert.Equal(t, Lost, state(), "run %d is over", r.ID)
}

// What was kept long enough goes; the newest runs, unfinished ones and living instances stay.
func TestRetention(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "retained")
	var ids []int64
	for range 6 {
		r, err := s.AddRun(t.Context(), w.ID, KindStart, "")
		require.NoError(t, err)
		require.NoError(t, s.CancelRuns(t.Context(), w, "over"))
		ids = append(ids, r.ID)
	}
	living, leave := hold(t, s)
	defer leave()
	gone, err := s.Enlist(t.Context())
	require.NoError(t, err)
	waits, err := s.Enlist(t.Context())
	require.NoError(t, err)
	unfinished, err := s.AddRun(t.Context(), w.ID, KindStart, "")
	require.NoError(t, err)
	_, err = s.TakeRun(t.Context(), unfinished.ID, waits.ID)
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.CancelRuns(t.Context(), w, "over")) }() // other tests look for such
	_, err = s.Pool.Exec(t.Context(), "UPDATE runs SET ended = now() - interval '100 days' WHERE workspace = $1 AND ended IS NOT NULL AND id <> $2", w.ID, ids[0])
	require.NoError(t, err)
	_, err = s.Pool.Exec(t.Context(), "UPDATE instances SET started = now() - interval '2 hours' WHERE id = ANY($1)", []int64{living.ID, gone.ID, waits.ID})
	require.NoError(t, err)
	_, err = s.Pool.Exec(t.Context(), "INSERT INTO tokens (account, hash, label, expires) VALUES ($1, 'old', 'old', now() - interval '1 minute'), ($1, 'new', 'new', now() + interval '1 minute')", w.Account)
	require.NoError(t, err)
	attached := workspace(t, s, "attached")
	for range 5 {
		_, err = s.Pool.Exec(t.Context(), "INSERT INTO runs (workspace, kind, state, ended) VALUES ($1, $2, 'done', now() - interval '2 days')", attached.ID, KindAttach)
		require.NoError(t, err)
	}
	require.NoError(t, s.Prune(t.Context(), Retention{Runs: 90 * 24 * time.Hour, Newest: 3}))
	attaches, err := s.Runs(t.Context(), attached.ID, 100)
	require.NoError(t, err)
	assert.Len(t, attaches, 3, "attaches are many, and stay a day")
	left, err := s.Runs(t.Context(), w.ID, 100)
	require.NoError(t, err)
	var found []int64
	for _, r := range left {
		found = append(found, r.ID)
	}
	assert.Equal(t, []int64{unfinished.ID, ids[5], ids[4], ids[0]}, found, "the three newest, and one that is not old")
	instances, err := many[struct{ ID int64 }](t.Context(), s.db, "SELECT id FROM instances WHERE id = ANY($1) ORDER BY id", []int64{living.ID, gone.ID, waits.ID})
	require.NoError(t, err)
	assert.Equal(t, []struct{ ID int64 }{{living.ID}, {waits.ID}}, instances)
	tokens, err := many[struct{ Label string }](t.Context(), s.db, "SELECT label FROM tokens WHERE account = $1", w.Account)
	require.NoError(t, err)
	assert.Equal(t, []struct{ Label string }{{"new"}}, tokens)
}

// Only what the database itself said means that it is away.
func TestWhoIsAway(t *testing.T) {
	dial := &net.OpError{Op: "dial", Err: os.ErrDeadlineExceeded}
	for name, err := range map[string]error{"an agent's time-out": dial, "a broken stream": io.ErrUnexpectedEOF, "no time": context.DeadlineExceeded, "nothing": nil} {
		assert.False(t, Unavailable(err), name)
	}
	for name, err := range map[string]error{"a dial": dial, "a broken connection": io.ErrUnexpectedEOF, "it is stopping": &pgconn.PgError{Code: "57P01"}, "it takes no more": &pgconn.PgError{Code: "53300"}} {
		assert.True(t, Unavailable(FromDatabase(err)), name)
	}
	for name, err := range map[string]error{"a wrong question": &pgconn.PgError{Code: "42601"}, "it was given up": context.Canceled, "no time": context.DeadlineExceeded, "something else": errors.New("x")} {
		assert.False(t, Unavailable(FromDatabase(err)), name)
	}
	s := open(t)
	s.Close()
	_, err := s.Workspace(t.Context(), 1)
	assert.Error(t, err)
}
