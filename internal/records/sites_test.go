package records

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A site that the service is no longer given stays, takes nothing new, and can be forgotten
// when nothing is there.
func TestSites(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	before, err := s.GiveSites(ctx, nil)
	require.NoError(t, err)
	given := func(names ...string) map[string]Site {
		var list []Site
		for _, name := range names {
			list = append(list, Site{Name: name, Kind: "engine", Address: "tcp://" + name})
		}
		all, err := s.GiveSites(ctx, list)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(all), len(before))
		by := map[string]Site{}
		for _, v := range all {
			by[v.Name] = v
		}
		return by
	}
	first := given("quay-a", "quay-b")
	assert.False(t, first["quay-a"].Drained)
	second := given("quay-b")
	assert.True(t, second["quay-a"].Drained)
	assert.Equal(t, "tcp://quay-a", second["quay-a"].Address)
	assert.False(t, second["quay-b"].Drained)
	assert.Equal(t, first["quay-b"].Added, second["quay-b"].Added, "it is the same one")
	w := workspace(t, s, "moored")
	require.NoError(t, s.SetSite(ctx, w.ID, "quay-a"))
	assert.ErrorIs(t, s.RemoveSite(ctx, "quay-a"), ErrBusy, "a workspace is there")
	assert.ErrorIs(t, s.RemoveSite(ctx, "quay-b"), ErrBusy, "it takes workspaces")
	require.NoError(t, s.RemoveWorkspace(ctx, w))
	require.NoError(t, s.RemoveSite(ctx, "quay-a"))
	assert.NotContains(t, given("quay-b"), "quay-a")
}

// A site that was added stays as it is whatever the service is given at its start.
func TestAddedSites(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	added, err := s.AddSite(ctx, Site{Name: "skiff", Kind: "remote", Address: "ssh://crew@skiff.test", HostKey: "ssh-ed25519 AAAA"})
	require.NoError(t, err)
	assert.False(t, added.Given)
	_, err = s.AddSite(ctx, added)
	assert.ErrorIs(t, err, ErrTaken)
	find := func() Site {
		all, err := s.GiveSites(ctx, nil)
		require.NoError(t, err)
		for _, v := range all {
			if v.Name == "skiff" {
				return v
			}
		}
		return Site{}
	}
	assert.Equal(t, added, find())
	require.NoError(t, s.DrainSite(ctx, "skiff", true))
	assert.True(t, find().Drained)
	require.NoError(t, s.DrainSite(ctx, "skiff", false))
	require.NoError(t, s.PinHost(ctx, "skiff", "ssh-ed25519 BBBB"))
	assert.Equal(t, "ssh-ed25519 BBBB", find().HostKey)
	assert.ErrorIs(t, s.PinHost(ctx, "shoal", "x"), ErrNotFound)
	assert.ErrorIs(t, s.DrainSite(ctx, "shoal", true), ErrNotFound)
	assert.ErrorIs(t, s.RemoveSite(ctx, "skiff"), ErrBusy, "it takes workspaces")
	require.NoError(t, s.DrainSite(ctx, "skiff", true))
	require.NoError(t, s.RemoveSite(ctx, "skiff"))
}
