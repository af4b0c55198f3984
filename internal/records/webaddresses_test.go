package records

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWebAddresses(t *testing.T) {
	ctx, s := t.Context(), open(t)
	w := workspace(t, s, "webdeck")
	add := func(port string) (WebAddress, error) {
		return s.AddWebAddress(ctx, WebAddress{Workspace: w.ID, Account: w.Account, Port: port, Label: "deck-" + port, Protocol: "http"}, 2)
	}
	a, err := add("80")
	require.NoError(t, err)
	assert.Equal(t, WebPrivate, a.Sharing)
	_, err = add("81")
	require.NoError(t, err)
	_, err = add("82")
	assert.ErrorIs(t, err, ErrNotFound, "there are as many as there may be")
	again, err := add("80")
	require.NoError(t, err, "one that is there is found all the same")
	assert.Equal(t, a, again)

	// Each change is noted, and the last 200 stay.
	for i := range 210 {
		a.Sharing = WebTeam
		require.NoError(t, s.ShareWebAddress(ctx, a, w.Account, fmt.Sprint("change ", i)))
	}
	changes, err := s.WebChanges(ctx, a.ID, 1000)
	require.NoError(t, err)
	assert.Len(t, changes, 200)
	assert.Equal(t, "change 209", changes[0].What)
	assert.Equal(t, "webdeck-owner", changes[0].By)
	now, err := s.WebAddress(ctx, w.ID, "80")
	require.NoError(t, err)
	assert.Equal(t, a.Turn+210, now.Turn)

	// A ticket counts once, for its address, in its time.
	until := time.Now().Add(time.Minute)
	by := Credential{Account: w.Account, Token: "\x00hash"}
	require.NoError(t, s.AddWebTicket(ctx, []byte("one"), a.ID, by, until))
	require.NoError(t, s.AddWebTicket(ctx, []byte("late"), a.ID, by, time.Now().Add(-time.Second)))
	_, err = s.TakeWebTicket(ctx, []byte("one"), a.ID+1)
	assert.ErrorIs(t, err, ErrNotFound)
	_, err = s.TakeWebTicket(ctx, []byte("late"), a.ID)
	assert.ErrorIs(t, err, ErrNotFound)
	taken, err := s.TakeWebTicket(ctx, []byte("one"), a.ID)
	require.NoError(t, err)
	assert.Equal(t, by, taken)
	_, err = s.TakeWebTicket(ctx, []byte("one"), a.ID)
	assert.ErrorIs(t, err, ErrNotFound)
}
