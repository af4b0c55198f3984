package engine

import (
	"testing"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who comes to an engine after others does not look into the agent's volume again, as long as volume and
// mark are both there; and what warms an engine leaves nothing running.
func TestTheAgentsVolumeIsLookedIntoOnce(t *testing.T) {
	ctx := t.Context()
	before := newSite(t, "testmark", t.TempDir())
	require.NoError(t, before.Prepare(ctx))
	require.NoError(t, before.Warm(ctx))
	list, err := before.api.ContainerList(ctx, container.ListOptions{All: true, Filters: filters.NewArgs(filters.Arg("label", labelInstallation+"=testmark"))})
	require.NoError(t, err)
	assert.Empty(t, list)
	after := func() *Site { return newSite(t, "testmark", t.TempDir()) }
	assert.True(t, after().markedFilled(ctx))
	require.NoError(t, before.api.VolumeRemove(ctx, before.agentVolume(), true))
	assert.False(t, after().markedFilled(ctx), "the mark alone says nothing")
	require.NoError(t, after().Prepare(ctx), "it is filled anew")
	require.NoError(t, before.api.VolumeRemove(ctx, before.agentVolume()+filledMark, true))
	assert.False(t, after().markedFilled(ctx))
	again := after()
	require.NoError(t, again.Prepare(ctx))
	assert.True(t, again.markedFilled(ctx))
}
