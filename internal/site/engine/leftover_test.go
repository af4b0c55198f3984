package engine

import (
	"context"
	"slices"
	"testing"
	"time"

	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/volume"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/site"
)

// What has just been made is no leftover, and what came to be while the engine was looked at
// is known by then.
func TestWhatIsJustMadeIsNoLeftover(t *testing.T) {
	ctx := t.Context()
	s := newSite(t, "young", t.TempDir())
	makeVolume := func(workspace string) {
		_, err := s.api.VolumeCreate(ctx, volume.CreateOptions{Name: s.name(workspace), Labels: s.labels(workspace)})
		require.NoError(t, err)
		t.Cleanup(func() { _ = s.api.VolumeRemove(context.WithoutCancel(ctx), s.name(workspace), true) })
	}
	left := func(during func(), known ...string) (names []string) {
		list, err := s.Leftovers(ctx, func(context.Context) ([]string, error) {
			during()
			return known, nil
		})
		require.NoError(t, err)
		for _, l := range list {
			names = append(names, l.Name)
		}
		return names
	}
	nothing := func() {}
	makeVolume("w1")
	assert.NotContains(t, left(nothing), s.name("w1"), "it is not ten minutes old")
	s.o.Youngest = time.Nanosecond
	require.Eventually(t, func() bool { return slices.Contains(left(nothing), s.name("w1")) }, 5*time.Second, 50*time.Millisecond, "an engine counts seconds")
	assert.NotContains(t, left(nothing, "w1"), s.name("w1"), "its workspace is known")
	assert.NotContains(t, left(func() { makeVolume("w2") }), s.name("w2"), "it came when the engine had been looked at")
}

// The images with which networks are tried go with the version of the agent.
func TestImagesOfEarlierTrials(t *testing.T) {
	ctx := t.Context()
	s := newSite(t, "trials", t.TempDir())
	s.o.Youngest = time.Nanosecond
	_, err := s.trialImage(ctx)
	require.NoError(t, err)
	earlier := s.trialName()
	t.Cleanup(func() { _, _ = s.api.ImageRemove(context.WithoutCancel(ctx), earlier, image.RemoveOptions{}) })
	find := func() (found []site.Leftover) {
		list, err := s.Leftovers(ctx, func(context.Context) ([]string, error) { return nil, nil })
		require.NoError(t, err)
		for _, l := range list {
			if l.Name == earlier {
				found = append(found, l)
			}
		}
		return found
	}
	assert.Empty(t, find(), "it is this version's")
	s.agent.digest = "later"
	require.Len(t, find(), 1)
	require.NoError(t, s.RemoveLeftover(ctx, find()[0]))
	assert.Empty(t, find())
}
