// Package sitetest is the suite that every kind of site passes: what package site
// promises, tried against the real thing.
package sitetest

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// Place is a site to be tried.
type Place struct {
	Site site.Site
	// Image is one that the site can bring, and that has a user crew (1000) and sh.
	Image string
	// Staying is an image whose own command stays; that of Image ends at once.
	Staying string
	// Missing is an image that is nowhere.
	Missing string
}

// Run tries all that package site promises.
func Run(t *testing.T, p Place) {
	t.Run("examine", p.examine)
	t.Run("image", p.image)
	t.Run("instance", p.instance)
	t.Run("own command", p.ownCommand)
	t.Run("nothing there", p.nothing)
}

func (p Place) examine(t *testing.T) {
	f, err := p.Site.Examine(t.Context())
	require.NoError(t, err)
	assert.Positive(t, f.Processors)
	assert.Positive(t, f.MemoryBytes)
	assert.NotEmpty(t, f.Engine)
	assert.NotEmpty(t, f.System)
}

func (p Place) image(t *testing.T) {
	told := 0
	first, err := p.Site.EnsureImage(t.Context(), p.Image, func(string) { told++ })
	require.NoError(t, err)
	assert.NotEmpty(t, first.ID)
	again, err := p.Site.EnsureImage(t.Context(), p.Image, func(string) { t.Error("nothing is brought twice") })
	require.NoError(t, err)
	assert.False(t, again.Fetched)
	assert.Equal(t, first.ID, again.ID)
	_, err = p.Site.EnsureImage(t.Context(), p.Missing, func(string) {})
	assert.Equal(t, "image-not-found", fault.Code(err), "%v", err)
	assert.False(t, fault.IsTransient(err))
}

func (p Place) container(digest string) plan.Container {
	return plan.Container{Image: p.Image, Hostname: "deck", Override: true, SourceTarget: "/src/deck", Env: map[string]string{"TIDE": "flood"}, Digest: digest}
}

// make makes an instance and removes it at the end.
func (p Place) make(t *testing.T, id string, c plan.Container) {
	t.Helper()
	t.Cleanup(func() {
		ctx := context.WithoutCancel(t.Context())
		assert.NoError(t, p.Site.Remove(ctx, id))
		assert.NoError(t, p.Site.Remove(ctx, id), "what is not there is no error")
		_, found, err := p.Site.Find(ctx, id)
		assert.NoError(t, err)
		assert.False(t, found)
	})
	made, err := p.Site.EnsureVolume(t.Context(), id)
	require.NoError(t, err)
	assert.True(t, made)
	require.NoError(t, p.Site.EnsureInstance(t.Context(), id, c))
}

func (p Place) instance(t *testing.T) {
	ctx, id := t.Context(), "w1"
	p.make(t, id, p.container("one"))
	made, err := p.Site.EnsureVolume(ctx, id)
	require.NoError(t, err)
	assert.False(t, made, "it is there")
	i, found, err := p.Site.Find(ctx, id)
	require.NoError(t, err)
	require.True(t, found)
	assert.Equal(t, site.Instance{Workspace: id, Digest: "one"}, i)
	for range 2 { // one that runs stays as it is
		require.NoError(t, p.Site.Start(ctx, id))
	}
	assert.Equal(t, "flood\ndeck\n", p.inside(t, id, "echo $TIDE; hostname; echo kept > /src/deck/note; echo lost > /tmp/note"))
	require.NoError(t, p.Site.EnsureInstance(ctx, id, p.container("one")))
	assert.Equal(t, "lost\n", p.inside(t, id, "cat /tmp/note"), "with the same digest it is the same")

	require.NoError(t, p.Site.Stop(ctx, id, 5*time.Second, true))
	i, _, err = p.Site.Find(ctx, id)
	require.NoError(t, err)
	assert.False(t, i.Running)
	_, err = p.Site.Connect(ctx, id)
	assert.True(t, err == nil || fault.IsTransient(err))
	require.NoError(t, p.Site.Start(ctx, id))
	assert.Equal(t, "kept\nlost\n", p.inside(t, id, "cat /src/deck/note /tmp/note"), "stopping keeps all files")

	require.NoError(t, p.Site.EnsureInstance(ctx, id, p.container("two")))
	require.NoError(t, p.Site.Start(ctx, id))
	assert.Equal(t, "kept\nnone\n", p.inside(t, id, "cat /src/deck/note; cat /tmp/note 2>/dev/null || echo none"), "another digest is another instance, with the same source")
	list, err := p.Site.List(ctx)
	require.NoError(t, err)
	assert.Equal(t, []site.Instance{{Workspace: id, Running: true, Digest: "two"}}, list)
}

// ownCommand keeps the image's own command, with the agent beside it.
func (p Place) ownCommand(t *testing.T) {
	c := p.container("own")
	c.Override = false
	p.make(t, "w2", c)
	assert.Equal(t, "container-ended", fault.Code(p.Site.Start(t.Context(), "w2")))
	_, err := p.Site.EnsureImage(t.Context(), p.Staying, func(string) {})
	require.NoError(t, err)
	c.Image, c.Digest = p.Staying, "staying"
	require.NoError(t, p.Site.EnsureInstance(t.Context(), "w2", c))
	for range 2 {
		require.NoError(t, p.Site.Start(t.Context(), "w2"))
		assert.Equal(t, "sleep infinity \n", p.inside(t, "w2", "tr '\\0' ' ' < /proc/1/cmdline; echo"))
	}
}

func (p Place) nothing(t *testing.T) {
	ctx := t.Context()
	_, found, err := p.Site.Find(ctx, "w404")
	require.NoError(t, err)
	assert.False(t, found)
	assert.NoError(t, p.Site.Stop(ctx, "w404", time.Second, true))
	assert.Error(t, p.Site.Start(ctx, "w404"))
	_, err = p.Site.Connect(ctx, "w404")
	assert.True(t, fault.IsTransient(err), "%v", err)
	for _, bad := range []string{"", "../w1", "."} {
		assert.Error(t, p.Site.Remove(ctx, bad), "%q is no id", bad)
	}
}

// inside runs a shell's line in an instance through its agent.
func (p Place) inside(t *testing.T, id, line string) string {
	t.Helper()
	var link *agentlink.Link
	require.Eventually(t, func() bool {
		stream, err := p.Site.Connect(t.Context(), id)
		if err == nil {
			link, err = agentlink.Open(t.Context(), stream)
		}
		return err == nil
	}, 20*time.Second, 10*time.Millisecond, "the agent answers")
	defer link.Quiet().Close()
	answer, err := link.Configure(wire.Session{User: "root", Folder: "/", Probe: "none"})
	require.NoError(t, err)
	assert.Equal(t, 0, answer.UID)
	var out bytes.Buffer
	require.NoError(t, link.Task(t.Context(), wire.TaskRequest{Key: line, Shell: line}, &out))
	return out.String()
}
