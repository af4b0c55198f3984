// Package machinetest is the suite of all places (package sitetest) for sites whose workspaces have
// machines of their own: with an engine, a registry and images of its own.
package machinetest

import (
	"os"
	"path/filepath"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
	"domicile/internal/credential"
	"domicile/internal/scenario"
	"domicile/internal/site/engine"
	"domicile/internal/site/machine"
	"domicile/internal/site/sitetest"
)

// Run tries the site of a maker of machines; programs is the folder of the agent. Of o it wants the
// kind, the maker and the usual shape.
func Run(t *testing.T, programs string, o machine.Options) {
	folder, err := os.MkdirTemp("", "domicile-machines-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755)) // the engine's mapped users pass through it
	t.Cleanup(func() { os.RemoveAll(folder) })
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	world, err := scenario.Start(t.Context(), scenario.Options{Folder: folder, Cache: filepath.Join(cache, "domicile"), OwnEngine: true, Say: func(string) {}})
	require.NoError(t, err)
	t.Cleanup(world.Close)
	stays, err := mutate.Config(world.Image, v1.Config{Cmd: []string{"sleep", "infinity"}})
	require.NoError(t, err)
	staying := world.RegistryAt + "/skerry/staying:1"
	require.NoError(t, baseimage.Push(t.Context(), stays, staying))
	seal, err := credential.OpenSeal(world.Folder())
	require.NoError(t, err)
	keys, err := credential.NewKeys(seal)
	require.NoError(t, err)
	dial, _, err := engine.Address(world.EngineAt)
	require.NoError(t, err)
	o.Engine = engine.Options{Name: world.EngineAt, Dial: dial, Installation: "testmachines", Agents: func(string) string { return filepath.Join(programs, "domicile-agent") }, Secret: []byte("tide"), ServiceKey: keys.ServicePublic()}
	images, err := engine.New(o.Engine)
	require.NoError(t, err)
	o.Images = func() *engine.Site { return images }
	sitetest.Run(t, sitetest.Place{Site: machine.New(o), Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: keys.Service()})
}
