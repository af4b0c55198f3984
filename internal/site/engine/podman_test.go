package engine

import (
	"os"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
	"domicile/internal/daemons"
	"domicile/internal/site"
	"domicile/internal/site/sitetest"
)

// Another engine that offers the same API passes the same suite.
func TestAnotherEngine(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.Chmod(folder, 0o755))
	podman, err := daemons.StartPodman(t.Context(), folder, world.RegistryAt)
	require.NoError(t, err)
	defer podman.Close()
	image, err := mutate.Config(world.Image, v1.Config{Cmd: []string{"sleep", "infinity"}})
	require.NoError(t, err)
	staying := world.RegistryAt + "/skerry/staying:1"
	require.NoError(t, baseimage.Push(t.Context(), image, staying))
	dial, _, err := Address(podman.Host)
	require.NoError(t, err)
	s, err := New(Options{Name: "podman", BuildAt: newSite(t, "testpod", ""), Dial: dial, Installation: "testpod", Agents: func(string) string { return agentBinary() }, Shared: &Shared{Sockets: t.TempDir(), Doors: t.TempDir(), Views: t.TempDir()}, Secret: []byte("tide"), ServiceKey: keysOf(t).ServicePublic()})
	require.NoError(t, err)
	assert.NotNil(t, site.Can(s).Keeper, "nothing is known of it yet")
	sitetest.Run(t, sitetest.Place{Site: s, Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: keysOf(t).Service()})
	assert.Nil(t, site.Can(s).Keeper, "its archives do not tell whose files are")
	reached, err := s.tryNetworks(t.Context())
	require.NoError(t, err)
	assert.False(t, reached, "its networks are apart")
}
