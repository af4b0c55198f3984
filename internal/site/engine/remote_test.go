package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
	"domicile/internal/daemons"
	"domicile/internal/fault"
	"domicile/internal/site/remote"
	"domicile/internal/site/sitetest"
)

// behind is the tests' engine behind an SSH server, whose socket lies where engines have it.
func behind(t *testing.T) (*daemons.SSH, remote.Address) {
	t.Helper()
	server, err := daemons.StartSSH(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	return server, remote.Address{User: "root", Host: "127.0.0.1", Port: fmt.Sprint(server.Port), Socket: strings.TrimPrefix(world.EngineAt, "unix://")}
}

func newRemote(t *testing.T, line *remote.Line) *remote.Site {
	t.Helper()
	s, err := New(Options{Name: "a host over SSH", Dial: line.Dial, Installation: "testfarther", Agents: func(string) string { return agentBinary() }, Secret: []byte("tide"), ServiceKey: keysOf(t).ServicePublic()})
	require.NoError(t, err)
	return remote.At(line, s)
}

// keyOf is the key that a host shows.
func keyOf(t *testing.T, to remote.Address) string {
	t.Helper()
	keys, err := remote.HostKeys(t.Context(), keysOf(t).Service(), to)
	require.NoError(t, err)
	return keys[0]
}

// An engine behind SSH is one like another.
func TestRemote(t *testing.T) {
	image, err := mutate.Config(world.Image, v1.Config{Cmd: []string{"sleep", "infinity"}})
	require.NoError(t, err)
	staying := world.RegistryAt + "/skerry/staying:1"
	require.NoError(t, baseimage.Push(t.Context(), image, staying))
	server, to := behind(t)
	key := keysOf(t).Service()
	require.NoError(t, server.Authorize(remote.Install(key.PublicKey())))
	pinned := keyOf(t, to)
	line := remote.NewLine(to, key, pinned)
	defer line.Close()
	sitetest.Run(t, sitetest.Place{Site: newRemote(t, line), Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: key})
}

// What keeps a host from being reached is told with what to do, and a connection that was cut
// comes back by itself.
func TestAHostThatIsNotReached(t *testing.T) {
	server, to := behind(t)
	key := keysOf(t).Service()
	examine := func(line *remote.Line) error {
		_, err := newRemote(t, line).Examine(t.Context())
		return err
	}
	assert.Equal(t, "host-not-known", fault.Code(examine(remote.NewLine(to, key, ""))))
	pinned := keyOf(t, to)

	line := remote.NewLine(to, key, pinned)
	defer line.Close()
	err := examine(line)
	assert.Equal(t, "key-not-installed", fault.Code(err), "%v", err)
	assert.Contains(t, fault.Remedy(err), remote.Install(key.PublicKey()))
	require.NoError(t, server.Authorize(remote.Install(key.PublicKey())))
	require.NoError(t, examine(line), "the same line gets in when the key is there")

	elsewhere := to
	elsewhere.Socket = "/run/user/4711/docker.sock"
	none := remote.NewLine(elsewhere, key, pinned)
	defer none.Close()
	err = examine(none)
	assert.Equal(t, "engine-closed", fault.Code(err), "%v", err)

	server.Stop()
	err = examine(line)
	assert.Equal(t, "host-away", fault.Code(err), "%v", err)
	assert.True(t, fault.IsTransient(err))
	require.NoError(t, server.Start(t.Context()))
	require.Eventually(t, func() bool { return examine(line) == nil }, 10*time.Second, 20*time.Millisecond, "it comes back by itself")

	server.Stop()
	require.NoError(t, server.NewHostKey(t.Context()))
	require.NoError(t, server.Start(t.Context()))
	require.Eventually(t, func() bool { return fault.Code(examine(line)) == "host-key-changed" }, 10*time.Second, 20*time.Millisecond)
	assert.False(t, fault.IsTransient(examine(line)), "it does not go away by itself")
	given := remote.NewLine(to, key, pinned)
	given.Close()
	assert.ErrorContains(t, examine(given), "was changed or removed meanwhile", "a line that was given up dials no more")
}

// A host behind another is reached by way of it, and each of both is known by its own key.
func TestAHostBehindAnother(t *testing.T) {
	gate, toGate := behind(t)
	quay, to := behind(t)
	key := keysOf(t).Service()
	_, err := remote.HostKeys(t.Context(), key, toGate, to)
	assert.Equal(t, "key-not-installed", fault.Code(err), "who is to lead on must let the service in: %v", err)
	for _, h := range []interface{ Authorize(string) error }{gate, quay} {
		require.NoError(t, h.Authorize(remote.Install(key.PublicKey())))
	}
	keys, err := remote.HostKeys(t.Context(), key, toGate, to)
	require.NoError(t, err)
	assert.NotEqual(t, keys[0], keys[1])
	line := remote.NewLine(to, key, keys[1], remote.Hop{Address: toGate, Pinned: keys[0]})
	defer line.Close()
	s := newRemote(t, line)
	facts, err := s.Examine(t.Context())
	require.NoError(t, err)
	assert.Positive(t, facts.DiskFreeBytes, "the host tells it")
	assert.NotEmpty(t, facts.Devices)
	assert.NotContains(t, facts.Devices, "/dev/tide0")

	gate.Stop()
	_, err = s.Examine(t.Context())
	assert.Equal(t, "host-away", fault.Code(err), "%v", err)
	require.NoError(t, gate.NewHostKey(t.Context()))
	require.NoError(t, gate.Start(t.Context()))
	require.Eventually(t, func() bool { _, err := s.Examine(t.Context()); return fault.Code(err) == "host-key-changed" }, 10*time.Second, 20*time.Millisecond, "the one on the way is no other")
}
