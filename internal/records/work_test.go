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

func TestSnapshots(t *testing.T) {
	s := open(t)
	w := workspace(t, s, "kept")
	ctx := t.Context()
	add := func(kind, digest, commit string) Snapshot {
		snapshot, err := s.AddSnapshot(ctx, Snapshot{Kind: kind, Account: w.Account, Workspace: &w.ID, Name: w.Name, Site: "s", Source: w.Source, Commit: commit, Plan: json.RawMessage("{}"), Done: json.RawMessage("{}"), Digest: digest})
		require.NoError(t, err)
		return snapshot
	}
	one := add(Prepared, "d1", "c1")
	_, err := s.PreparedFor(ctx, w.Account, "s", w.Source, "d1", "c1")
	assert.ErrorIs(t, err, ErrNotFound, "it is not kept yet")
	require.NoError(t, s.KeepSnapshot(ctx, one.ID, json.RawMessage(`{"": "image:1"}`), 7))
	found, err := s.PreparedFor(ctx, w.Account, "s", w.Source, "d1", "c1")
	require.NoError(t, err)
	assert.Equal(t, one.ID, found.ID)
	assert.EqualValues(t, 7, found.Bytes)
	for _, other := range [][3]string{{"s", "d2", "c1"}, {"s", "d1", "c2"}, {"elsewhere", "d1", "c1"}} {
		_, err := s.PreparedFor(ctx, w.Account, other[0], w.Source, other[1], other[2])
		assert.ErrorIs(t, err, ErrNotFound, "%v", other)
	}
	stranger, err := s.AddAccount(ctx, "stranger", "hash", false)
	require.NoError(t, err)
	_, err = s.PreparedFor(ctx, stranger.ID, "s", w.Source, "d1", "c1")
	assert.ErrorIs(t, err, ErrNotFound, "what somebody prepared with rights of their own is nobody else's")
	public, err := s.AddSnapshot(ctx, Snapshot{Kind: Prepared, Account: w.Account, Name: w.Name, Site: "s", Source: w.Source, Commit: "c3", Plan: json.RawMessage("{}"), Done: json.RawMessage("{}"), Digest: "d1", Shared: true})
	require.NoError(t, err)
	require.NoError(t, s.KeepSnapshot(ctx, public.ID, json.RawMessage(`{"": "image:2"}`), 7))
	found, err = s.PreparedFor(ctx, stranger.ID, "s", w.Source, "d1", "c3")
	require.NoError(t, err)
	assert.Equal(t, public.ID, found.ID)
	snapshot := add(Personal, "d1", "c1")
	require.NoError(t, s.KeepSnapshot(ctx, snapshot.ID, json.RawMessage(`{}`), 1))
	mine, err := s.Snapshots(ctx, w.Account)
	require.NoError(t, err)
	require.Len(t, mine, 1, "what is prepared is no snapshot")
	to, err := s.AddAccount(ctx, "heir", "hash", false)
	require.NoError(t, err)
	require.NoError(t, s.HandSnapshot(ctx, snapshot.ID, to.ID))
	require.NoError(t, s.RemoveWorkspace(ctx, w))
	kept, err := s.Snapshot(ctx, snapshot.ID)
	require.NoError(t, err, "a snapshot outlives its workspace")
	assert.Equal(t, to.ID, kept.Account)
	require.NoError(t, s.RemoveSnapshot(ctx, snapshot.ID))
	assert.ErrorIs(t, s.RemoveSnapshot(ctx, snapshot.ID), ErrNotFound)
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
	of, err := s.Related(ctx, []int64{w.ID})
	require.NoError(t, err)
	require.Len(t, of.Helpers[w.ID], 1)
	assert.Empty(t, of.Last)
	require.NoError(t, s.RemoveWorkspace(ctx, w))
	_, err = s.Workspace(ctx, h.ID)
	assert.ErrorIs(t, err, ErrNotFound)
}

// What is shown beside a workspace is its newest run; the steps of one that went well are
// left out of lists.
func TestBesideAWorkspaceIsItsNewestRun(t *testing.T) {
	s := open(t)
	w, ctx := workspace(t, s, "beside"), t.Context()
	i, leave := hold(t, s)
	defer leave()
	begin := func(kind string) Run {
		t.Helper()
		r, err := s.AddRun(ctx, w.ID, kind, "")
		require.NoError(t, err)
		require.NoError(t, s.AddSteps(ctx, r.ID, w.Source, []Step{{Name: "one"}, {Position: 1, Name: "two"}}))
		r, err = s.TakeRun(ctx, r.ID, i.ID)
		require.NoError(t, err)
		return r
	}
	shown := func(whole bool) (Run, []string) {
		t.Helper()
		list, b, err := s.Overview(ctx, w.Account)
		require.NoError(t, err)
		require.Len(t, list, 1)
		if whole {
			b, err = s.Related(ctx, []int64{w.ID})
			require.NoError(t, err)
		}
		var names []string
		for _, step := range b.Steps[b.Last[w.ID].ID] {
			names = append(names, step.Name)
		}
		return b.Last[w.ID], names
	}
	first := begin(KindProvision)
	_, names := shown(false)
	assert.Equal(t, []string{"one", "two"}, names, "it is under way")
	require.NoError(t, s.EndRun(ctx, w, first, Succeeded, ""))
	last, names := shown(false)
	assert.Equal(t, first.ID, last.ID)
	assert.Empty(t, names)
	_, names = shown(true)
	assert.Len(t, names, 2)
	second := begin(KindStop)
	require.NoError(t, s.EndRun(ctx, w, second, Failed, "no"))
	last, names = shown(false)
	assert.Equal(t, second.ID, last.ID)
	assert.Len(t, names, 2, "what failed is told")
}

// What a workspace leaves at a site is kept by one replica, under a number of its own.
func TestWhatIsLeftBehind(t *testing.T) {
	ctx := t.Context()
	s := open(t)
	w := workspace(t, s, "castaway")
	record := Snapshot{Kind: Personal, Account: w.Account, Workspace: &w.ID, Name: w.Name, Note: "what was there", Site: "quay", Source: w.Source, Commit: "abc", Plan: json.RawMessage("{}"), Done: json.RawMessage(`{"source": "1"}`)}
	require.NoError(t, s.LeaveBehind(ctx, record))
	require.NoError(t, s.LeaveBehind(ctx, record), "again, as after a crash")
	list, err := s.LeftBehind(ctx, "quay")
	require.NoError(t, err)
	require.Len(t, list, 1)
	other, err := s.LeftBehindBy(ctx, w.ID)
	require.NoError(t, err)
	assert.Equal(t, list, other)
	l := list[0]
	for _, want := range []bool{true, false} {
		mine, err := s.TakeLeftBehind(ctx, l)
		require.NoError(t, err)
		assert.Equal(t, want, mine)
	}
	require.NoError(t, s.LetLeftBehind(ctx, l))
	mine, err := s.TakeLeftBehind(ctx, l)
	require.NoError(t, err)
	assert.True(t, mine)
	require.NoError(t, s.AddFound(ctx, l, json.RawMessage(`{"": "image:1"}`), 7))
	assert.Error(t, s.AddFound(ctx, l, nil, 0), "it has its number")
	found, err := s.Snapshot(ctx, l.Snapshot)
	require.NoError(t, err)
	assert.True(t, found.Ready)
	assert.Equal(t, "what was there", found.Note)
	assert.JSONEq(t, `{"source": "1"}`, string(found.Done))
	next, err := s.AddSnapshot(ctx, record)
	require.NoError(t, err)
	assert.Greater(t, next.ID, found.ID, "no number is given twice")
	require.NoError(t, s.ForgetLeftBehind(ctx, "quay", w.ID))
	list, err = s.LeftBehind(ctx, "quay")
	require.NoError(t, err)
	assert.Empty(t, list)
}
