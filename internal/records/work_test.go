package records

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a workspace was before a rebuild is kept once, and put back whole.
func TestEarlierIsKeptAndPutBack(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "rebuilt")
	ctx := t.Context()
	require.NoError(t, s.SetPlan(ctx, w.ID, "c1", json.RawMessage(`{"image": "one"}`)))
	require.NoError(t, s.SetSession(ctx, w.ID, json.RawMessage(`{"user": "crew"}`), 1000))
	require.NoError(t, s.ReplaceDone(ctx, w.ID, map[string]string{"source": "a", "onCreateCommand": "b"}))
	require.NoError(t, s.KeepEarlier(ctx, w.ID))
	require.NoError(t, s.SetPlan(ctx, w.ID, "c2", json.RawMessage(`{"image": "two"}`)))
	require.NoError(t, s.DropDone(ctx, w.ID, "onCreateCommand"))
	require.NoError(t, s.SetDone(ctx, w.ID, Done{Step: "source", Digest: "z"}))
	require.NoError(t, s.KeepEarlier(ctx, w.ID), "again after a crash: the first one counts")
	require.NoError(t, s.PutEarlierBack(ctx, w.ID))
	now, err := s.Workspace(ctx, w.ID)
	require.NoError(t, err)
	assert.JSONEq(t, `{"image": "one"}`, string(now.Plan))
	assert.JSONEq(t, `{"user": "crew"}`, string(now.Session))
	assert.Equal(t, "c1", now.Commit)
	assert.Equal(t, 1000, *now.UID)
	assert.Nil(t, now.Earlier)
	assert.Nil(t, now.Checks)
	done, err := s.DoneSteps(ctx, w.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"source": "a", "onCreateCommand": "b"}, Digests(done))
	require.NoError(t, s.PutEarlierBack(ctx, w.ID), "twice does no harm")
	done, err = s.DoneSteps(ctx, w.ID)
	require.NoError(t, err)
	assert.Len(t, done, 2)
}

func TestStates(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "kept")
	ctx := t.Context()
	add := func(kind, digest, commit string) State {
		state, err := s.AddState(ctx, State{Kind: kind, Account: w.Account, Workspace: &w.ID, Name: w.Name, Site: "s", Source: w.Source, Commit: commit, Plan: json.RawMessage("{}"), Done: json.RawMessage("{}"), Digest: digest})
		require.NoError(t, err)
		return state
	}
	one := add(Prepared, "d1", "c1")
	_, err := s.PreparedFor(ctx, "s", w.Source, "d1", "c1")
	assert.ErrorIs(t, err, ErrNotFound, "it is not kept yet")
	require.NoError(t, s.KeepState(ctx, one.ID, json.RawMessage(`{"": "image:1"}`), 7))
	found, err := s.PreparedFor(ctx, "s", w.Source, "d1", "c1")
	require.NoError(t, err)
	assert.Equal(t, one.ID, found.ID)
	assert.EqualValues(t, 7, found.Bytes)
	for _, other := range [][3]string{{"s", "d2", "c1"}, {"s", "d1", "c2"}, {"elsewhere", "d1", "c1"}} {
		_, err := s.PreparedFor(ctx, other[0], w.Source, other[1], other[2])
		assert.ErrorIs(t, err, ErrNotFound, "%v", other)
	}
	snapshot := add(Snapshot, "d1", "c1")
	require.NoError(t, s.KeepState(ctx, snapshot.ID, json.RawMessage(`{}`), 1))
	mine, err := s.Snapshots(ctx, w.Account)
	require.NoError(t, err)
	require.Len(t, mine, 1, "what is prepared is no snapshot")
	to, err := s.AddAccount(ctx, "heir", "hash", false)
	require.NoError(t, err)
	require.NoError(t, s.HandState(ctx, snapshot.ID, to.ID))
	require.NoError(t, s.RemoveWorkspace(ctx, w))
	kept, err := s.State(ctx, snapshot.ID)
	require.NoError(t, err, "a state outlives its workspace")
	assert.Equal(t, to.ID, kept.Account)
	require.NoError(t, s.RemoveState(ctx, snapshot.ID))
	assert.ErrorIs(t, s.RemoveState(ctx, snapshot.ID), ErrNotFound)
}

// Several replicas look at followed branches: one of them has the turn in each period.
func TestOneLooksAtABranch(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	a, err := s.AddAccount(ctx, "follower", "hash", false)
	require.NoError(t, err)
	w, err := s.AddWorkspace(ctx, Workspace{Account: a.ID, Name: "x@main", Source: "https://h/x", Site: "s", State: Waiting, Wanted: WantRunning, Kind: IsPrepared})
	require.NoError(t, err)
	listed, err := s.Workspaces(ctx, a.ID)
	require.NoError(t, err)
	assert.Empty(t, listed, "what is prepared is no workspace of a person's")
	require.NoError(t, s.Follow(ctx, w.ID, true))
	require.NoError(t, s.Follow(ctx, w.ID, true))
	turn, err := s.TakeLook(ctx, w.ID, 0)
	require.NoError(t, err)
	assert.True(t, turn)
	turn, err = s.TakeLook(ctx, w.ID, time.Hour)
	require.NoError(t, err)
	assert.False(t, turn)
	require.NoError(t, s.Follow(ctx, w.ID, false))
	followed, err := s.Followed(ctx)
	require.NoError(t, err)
	assert.False(t, followed[w.ID])
}

func TestHelpersGoWithTheirWorkspace(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "helped")
	ctx := t.Context()
	h, err := s.AddWorkspace(ctx, Workspace{Account: w.Account, Name: "helped.tools", Source: w.Source, Site: "s", State: Ready, Wanted: WantRunning, Kind: IsHelper, Parent: &w.ID, Spec: json.RawMessage(`{}`)})
	require.NoError(t, err)
	of, err := s.HelpersOf(ctx, []int64{w.ID})
	require.NoError(t, err)
	require.Len(t, of[w.ID], 1)
	require.NoError(t, s.RemoveWorkspace(ctx, w))
	_, err = s.Workspace(ctx, h.ID)
	assert.ErrorIs(t, err, ErrNotFound)
}
