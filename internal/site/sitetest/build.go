package sitetest

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/plan"
	"domicile/internal/recipe"
	"domicile/internal/site"
)

// build builds an image with a feature in it, once, and a workspace is made from that.
func (p Place) build(t *testing.T) {
	ctx := t.Context()
	r := &recipe.Recipe{Base: p.Image, RemoteUser: "crew", Digest: fmt.Sprintf("%x", sha256.Sum256([]byte(t.Name())))[:24], Metadata: []json.RawMessage{json.RawMessage(`{"remoteUser": "crew"}`)},
		Layers: []recipe.Layer{{Reference: "lamp", Digest: "sha256:1", Title: "lamp 1", Options: map[string]string{"COLOUR": "green"}}}}
	judged, err := plan.JudgeRecipe(r, subject())
	require.NoError(t, err)
	b := site.Build{Recipe: judged, Features: []fs.FS{fstest.MapFS{"install.sh": {Mode: 0o755, Data: []byte("#!/bin/sh\necho $COLOUR $_REMOTE_USER > /etc/lamp\n")}}}}
	told := 0
	first, err := p.Site.EnsureBuilt(ctx, b, func(string) { told++ })
	require.NoError(t, err)
	assert.True(t, first.Fetched)
	assert.Positive(t, told)
	again, err := p.Site.EnsureBuilt(ctx, b, func(string) { t.Error("nothing is built twice") })
	require.NoError(t, err)
	assert.False(t, again.Fetched)
	assert.Equal(t, first.ID, again.ID)
	assert.Contains(t, again.Metadata, `"remoteUser":"crew"`)
	c := p.container("built")
	c.Image = r.Tag()
	volume, err := p.Site.EnsureVolume(ctx, "w8")
	require.NoError(t, err)
	assert.True(t, volume)
	t.Cleanup(func() { assert.NoError(t, p.Site.Remove(ctxOf(t), "w8")) })
	made, err := plan.JudgeContainer(c, subject(c.Image))
	require.NoError(t, err)
	require.NoError(t, p.Site.EnsureInstance(ctx, "w8", made))
	require.NoError(t, p.Site.Start(ctx, "w8"))
	assert.Equal(t, "green crew\n", p.inside(t, "w8", "cat /etc/lamp"))
}
