package engine

import (
	"context"
	"fmt"
	"os"
	"os/exec"
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
	installation := fmt.Sprintf("pod%d", os.Getpid()) // what it makes beside the engine is named for it
	builder := newSite(t, installation, "")
	dial, _, err := Address(podman.Host)
	require.NoError(t, err)
	s, err := New(Options{Name: "podman", BuildAt: func() *Site { return builder }, Dial: dial, Installation: installation, Agents: func(string) string { return agentBinary() }, Shared: &Shared{Sockets: t.TempDir(), Views: t.TempDir()}, Secret: []byte("tide"), ServiceKey: keysOf(t).ServicePublic()})
	require.NoError(t, err)
	assert.NotNil(t, site.Can(s).Keeper, "nothing is known of it yet")
	sitetest.Run(t, sitetest.Place{Site: s, Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: keysOf(t).Service()})
	assert.Nil(t, site.Can(s).Keeper, "its archives do not tell whose files are")

	// Its networks are apart, also while others on this machine look after theirs.
	others := newSite(t, "beside-podman", "")
	_, err = others.Examine(t.Context())
	require.NoError(t, err)
	looking, stop := context.WithCancel(t.Context())
	looked := make(chan int)
	go func() {
		times := 0
		for ; looking.Err() == nil; times++ {
			others.border(looking)
		}
		looked <- times
	}()
	for range 3 {
		reached, err := s.tryNetworks(t.Context())
		require.NoError(t, err)
		assert.False(t, reached)
	}
	stop()
	assert.Greater(t, <-looked, 10)
	rules, err := exec.CommandContext(t.Context(), "iptables", "-w", "-t", borderTable, "-S").Output()
	require.NoError(t, err)
	for i := range 2 {
		assert.NotContains(t, string(rules), deviceOf(fmt.Sprintf("%s-%d", s.trialOf(), i)), "what is removed has no rules")
	}
}
