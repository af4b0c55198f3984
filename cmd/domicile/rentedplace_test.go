package main

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
	"domicile/internal/credential"
	"domicile/internal/scenario"
	"domicile/internal/site"
	"domicile/internal/site/engine"
	"domicile/internal/site/machine"
	"domicile/internal/site/sitetest"
	standin "domicile/internal/standin/cloud"
)

// Rented instances are a place like others. It takes minutes: scripts/test places runs it.
func TestRentedInstancesAreAPlace(t *testing.T) {
	folder, err := os.MkdirTemp("", "domicile-rented-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	t.Cleanup(func() { os.RemoveAll(folder) })
	image := filepath.Join(folder, "image")
	out, err := exec.CommandContext(t.Context(), "../../scripts/machine-image", image).CombinedOutput()
	require.NoError(t, err, string(out))
	cache, err := os.UserCacheDir()
	require.NoError(t, err)
	world, err := scenario.Start(t.Context(), scenario.Options{Folder: folder, Cache: filepath.Join(cache, "domicile"), OwnEngine: true, Say: func(string) {}})
	require.NoError(t, err)
	t.Cleanup(world.Close)
	stays, err := mutate.Config(world.Image, v1.Config{Cmd: []string{"sleep", "infinity"}})
	require.NoError(t, err)
	staying := world.RegistryAt + "/skerry/staying:1"
	require.NoError(t, baseimage.Push(t.Context(), stays, staying))

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	instances, err := os.MkdirTemp("", "dmcl-") // whose path is short
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(instances) })
	machines, err := standin.NewMachines(instances, image, []string{l.Addr().String()}, t.Logf)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, machines.Close()) })
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	c := newChandleryAt(t, standin.Options{Quota: 9, Computers: machines, Disks: filepath.Join(folder, "disks")}, l, net.JoinHostPort("10.0.2.2", port))

	seal, err := credential.OpenSeal(world.Folder())
	require.NoError(t, err)
	keys, err := credential.NewKeys(seal)
	require.NoError(t, err)
	dial, _, err := engine.Address(world.EngineAt)
	require.NoError(t, err)
	common := engine.Options{Name: world.EngineAt, Dial: dial, Installation: "testrented", Agents: func(string) string { return filepath.Join("../../bin", "domicile-agent") }, Secret: []byte("tide"), ServiceKey: keys.ServicePublic()}
	images, err := engine.New(common)
	require.NoError(t, err)
	place := machine.New(machine.Options{Kind: site.Cloud, Maker: c.maker, Engine: common, Images: func() *engine.Site { return images }, Usual: machine.Shape{Processors: 1}, Folder: folder})
	sitetest.Run(t, sitetest.Place{Site: place, Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: keys.Service()})
}
