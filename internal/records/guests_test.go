package records

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestGuests(t *testing.T) {
	ctx, s := t.Context(), open(t)
	w, other := workspace(t, s, "inn"), workspace(t, s, "hostel")
	guest := other.Account
	soon := time.Now().Add(time.Hour)
	_, err := s.InvitationTo(ctx, guest, "inn", "inn-owner")
	assert.ErrorIs(t, err, ErrNotFound, "nobody is invited yet")
	assert.ErrorIs(t, s.GuestCame(ctx, w.ID, guest, "here"), ErrNotFound)

	require.NoError(t, s.Invite(ctx, Guest{Workspace: w.ID, Account: guest, May: MayLook, Until: soon}, 1))
	to, err := s.InvitationTo(ctx, guest, "inn", "inn-owner")
	require.NoError(t, err)
	assert.Equal(t, Invitation{ID: w.ID, Name: "inn", State: to.State, Owner: "inn-owner", May: MayLook, Until: to.Until}, to)
	_, err = s.InvitationTo(ctx, guest, "hostel", "inn-owner")
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = s.InvitationTo(ctx, w.Account, "inn", "inn-owner")
	assert.ErrorIs(t, err, ErrNotFound, "the owner is no guest")

	looks, types := Visit{w.ID, guest, MayLook}, Visit{w.ID, guest, MayType}
	over := func(want ...Visit) {
		t.Helper()
		got, err := s.Over(ctx, []Visit{looks, types})
		require.NoError(t, err)
		assert.ElementsMatch(t, want, got)
	}
	over(types)
	epochs := map[string]bool{}
	typists := func(of int64) bool {
		t.Helper()
		list, err := s.Typists(ctx, []int64{of})
		require.NoError(t, err)
		require.Len(t, list, 1)
		if of == w.ID {
			epochs[list[0].Epoch] = true
		}
		return list[0].Now
	}
	assert.False(t, typists(w.ID))
	third := workspace(t, s, "barn").Account
	assert.ErrorIs(t, s.Invite(ctx, Guest{Workspace: w.ID, Account: third, May: MayLook, Until: soon}, 1), ErrNotFound, "there are as many as there may be")
	require.NoError(t, s.Invite(ctx, Guest{Workspace: w.ID, Account: guest, May: MayType, Until: soon}, 1), "one that is there is changed")
	over()
	assert.True(t, typists(w.ID))

	mate, err := s.AddWorkspace(ctx, Workspace{Account: w.Account, Name: "inn.mate", Source: w.Source, Site: w.Site, State: Ready, Wanted: WantRunning, Kind: IsHelper, Parent: &w.ID})
	require.NoError(t, err)
	assert.True(t, typists(mate.ID), "who types in a workspace comes into its helpers")
	assert.False(t, typists(other.ID))

	// A visit is noted once in a while.
	for range 3 {
		require.NoError(t, s.GuestCame(ctx, w.ID, guest, "127.0.0.1:9"))
	}
	list, err := s.Guests(ctx, w.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "hostel-owner", list[0].Person)
	assert.NotNil(t, list[0].Came)
	changes, err := s.GuestChanges(ctx, w.ID, 9)
	require.NoError(t, err)
	require.Len(t, changes, 1)
	assert.Equal(t, "hostel-owner", changes[0].By)
	assert.Equal(t, "came in from 127.0.0.1:9", changes[0].What)

	// An invitation ends by itself, with its owner's account, and when it is ended.
	require.NoError(t, s.SetLocked(ctx, w.Account, true))
	over(looks, types)
	require.NoError(t, s.SetLocked(ctx, w.Account, false))
	over()
	require.NoError(t, s.Invite(ctx, Guest{Workspace: w.ID, Account: guest, May: MayType, Until: time.Now().Add(-time.Second)}, 1))
	over(looks, types)
	assert.ErrorIs(t, s.GuestCame(ctx, w.ID, guest, "late"), ErrNotFound)
	none, err := s.Invitations(ctx, guest)
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, s.Uninvite(ctx, w.ID, guest))
	assert.ErrorIs(t, s.Uninvite(ctx, w.ID, guest), ErrNotFound)

	for i := range 210 {
		require.NoError(t, s.NoteGuests(ctx, w.ID, w.Account, fmt.Sprint("change ", i)))
	}
	changes, err = s.GuestChanges(ctx, w.ID, 1000)
	require.NoError(t, err)
	assert.Len(t, changes, 200)
	assert.Equal(t, "change 209", changes[0].What)
	require.NoError(t, s.Invite(ctx, Guest{Workspace: w.ID, Account: guest, May: MayLook, Until: soon}, 1))
	require.NoError(t, s.GuestCame(ctx, w.ID, guest, "again"))
	changes, err = s.GuestChanges(ctx, w.ID, 1000)
	require.NoError(t, err)
	assert.Len(t, changes, 200, "visits do not grow without end either")
	assert.Equal(t, "came in from again", changes[0].What)
}
