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
