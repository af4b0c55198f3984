package engine

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
)

// An outlet that has ended, as with its engine, is known; one that runs, that is another's, or that was
// removed is not among them.
func TestOutletsThatHaveEnded(t *testing.T) {
	ctx := t.Context()
	s, other := newSite(t, "quay-out", t.TempDir()), newSite(t, "quay-other", t.TempDir())
	lost := func(s *Site) []string {
		list, err := s.LostOutlets(ctx)
		require.NoError(t, err)
		return list
	}
	for _, id := range []string{"w1", "w2"} {
		space, err := s.Outlet(ctx, id)
		require.NoError(t, err)
		require.NoError(t, space.Close())
		t.Cleanup(func() { assert.NoError(t, s.RemoveOutlet(context.WithoutCancel(ctx), id)) })
	}
	assert.Empty(t, lost(s))
	at := 0 // seconds
	require.NoError(t, s.api.ContainerStop(ctx, s.outletName("w2"), container.StopOptions{Timeout: &at}))
	assert.Equal(t, []string{"w2"}, lost(s))
	assert.Empty(t, lost(other), "another installation's are none of its business")
	// A label is anybody's to write: an image may have any.
	image, err := s.trialImage(ctx)
	require.NoError(t, err)
	for _, of := range []string{"w1", "w99"} {
		forged, err := s.api.ContainerCreate(ctx, &container.Config{Image: image, Cmd: []string{wire.AgentPath, "stay"}, Labels: map[string]string{labelOutlet: of, labelInstallation: "quay-out"}}, nil, nil, nil, "forged-"+of)
		require.NoError(t, err)
		t.Cleanup(func() {
			assert.NoError(t, s.api.ContainerRemove(context.WithoutCancel(ctx), forged.ID, container.RemoveOptions{}))
		})
		require.NoError(t, s.api.ContainerStart(ctx, forged.ID, container.StartOptions{}))
		require.NoError(t, s.api.ContainerStop(ctx, forged.ID, container.StopOptions{Timeout: &at}))
	}
	assert.Equal(t, []string{"w2"}, lost(s))
	s.o.Youngest = time.Nanosecond
	list, err := s.Leftovers(ctx, func(context.Context) ([]string, error) { return []string{"w1", "w2"}, nil })
	require.NoError(t, err)
	for _, l := range list {
		assert.NotContains(t, l.Name, "forged")
	}
	space, err := s.Outlet(ctx, "w2")
	require.NoError(t, err)
	require.NoError(t, space.Close())
	assert.Empty(t, lost(s), "it has another one")
}

// An image may have labels of any name: all that are Domicile's own are set on what is made from it.
func TestAnImagesLabelsCountForNothing(t *testing.T) {
	labels := newSite(t, "labels", t.TempDir()).labels("w1")
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	ours := regexp.MustCompile(`\blabel\w+\s+= "(domicile\.[^"]+)"`)
	known := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, found := range ours.FindAllSubmatch(text, -1) {
			assert.Contains(t, labels, string(found[1]), file)
			known++
		}
	}
	assert.Greater(t, known, 10)
}
