package vm

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
	"domicile/internal/site"
	"domicile/internal/site/engine"
	"domicile/internal/site/machine"
	"domicile/internal/site/sitetest"
)

// A machine of its own is a place like others. It takes four minutes: scripts/test places runs it.
func TestMachinesAreAPlace(t *testing.T) {
	folder, err := os.MkdirTemp("", "domicile-machines-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	t.Cleanup(func() { os.RemoveAll(folder) })
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	world, err := scenario.Start(t.Context(), scenario.Options{Folder: folder, Cache: filepath.Join(cache, "domicile"), OwnEngine: true, Say: func(string) {}})
	require.NoError(t, err)
	t.Cleanup(world.Close)
	image, err := mutate.Config(world.Image, v1.Config{Cmd: []string{"sleep", "infinity"}})
	require.NoError(t, err)
	staying := world.RegistryAt + "/skerry/staying:1"
	require.NoError(t, baseimage.Push(t.Context(), image, staying))
	seal, err := credential.OpenSeal(world.Folder())
	require.NoError(t, err)
	keys, err := credential.NewKeys(seal)
	require.NoError(t, err)
	dial, _, err := engine.Address(world.EngineAt)
	require.NoError(t, err)
	common := engine.Options{Name: world.EngineAt, Dial: dial, Installation: "testmachines", Agents: func(string) string { return filepath.Join("../../../../bin", "domicile-agent") }, Secret: []byte("tide"), ServiceKey: keys.ServicePublic()}
	images, err := engine.New(common)
	require.NoError(t, err)
	maker := newMaker(t, Options{})
	place := machine.New(machine.Options{Kind: site.VM, Maker: maker, Engine: common, Images: func() *engine.Site { return images }, Usual: small})
	sitetest.Run(t, sitetest.Place{Site: place, Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: keys.Service()})
}
