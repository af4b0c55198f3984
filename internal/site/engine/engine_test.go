package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/scenario"
	"domicile/internal/site/sitetest"
)

var world *scenario.World

func TestMain(m *testing.M) { os.Exit(withEngine(m)) }

func withEngine(m *testing.M) int {
	folder, err := os.MkdirTemp("", "domicile-engine-")
	if err == nil {
		defer os.RemoveAll(folder)
		err = os.Chmod(folder, 0o755)
	}
	var cache string
	if err == nil {
		cache, err = os.UserCacheDir()
	}
	if err == nil {
		world, err = scenario.Start(context.Background(), scenario.Options{Folder: folder, Cache: filepath.Join(cache, "domicile"), OwnEngine: true, Say: func(string) {}})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "engine: cannot set up:", err)
		return 1
	}
	defer world.Close()
	return m.Run()
}

func newSite(t *testing.T, installation, sockets string) *Site {
	t.Helper()
	keys := keysOf(t)
	dial, near, err := Address(world.EngineAt)
	require.NoError(t, err)
	require.True(t, near)
	s, err := New(Options{Name: world.EngineAt, Dial: dial, Installation: installation, Agents: func(string) string { return agentBinary() }, Shared: &Shared{Sockets: sockets, Views: t.TempDir()}, Secret: []byte("tide"), ServiceKey: keys.ServicePublic()})
	require.NoError(t, err)
	return s
}

// keysOf are the same for all sites of these tests.
func keysOf(t *testing.T) *credential.Keys {
	t.Helper()
	seal, err := credential.OpenSeal(world.Folder())
	require.NoError(t, err)
	keys, err := credential.NewKeys(seal)
	require.NoError(t, err)
	return keys
}

func agentBinary() string {
	folder := os.Getenv("DOMICILE_PROGRAMS")
	if folder == "" {
		folder = "../../../bin"
	}
	return filepath.Join(folder, "domicile-agent")
}

func TestSite(t *testing.T) {
	image, err := mutate.Config(world.Image, v1.Config{Cmd: []string{"sleep", "infinity"}})
	require.NoError(t, err)
	staying := world.RegistryAt + "/skerry/staying:1"
	require.NoError(t, baseimage.Push(t.Context(), image, staying))
	dialled := 0
	for name, site := range map[string]*Site{"on this machine": newSite(t, "testnear", t.TempDir()), "elsewhere": newElsewhere(t, "testfar", &dialled)} {
		t.Run(name, func(t *testing.T) {
			sitetest.Run(t, sitetest.Place{Site: site, Image: world.RegistryAt + "/skerry/base:12", Staying: staying, Missing: world.RegistryAt + "/skerry/nosuch:1", Key: keysOf(t).Service()})
			facts, err := site.Examine(t.Context())
			require.NoError(t, err)
			assert.Equal(t, name == "elsewhere", facts.Elsewhere)
		})
	}
	assert.Positive(t, dialled)
}

func TestOthersThingsAreNotTouched(t *testing.T) {
	mine, others := newSite(t, "mine", ""), newSite(t, "others", "")
	image := world.RegistryAt + "/skerry/base:12"
	judged, err := plan.JudgeImage(image, judge.Subject{})
	require.NoError(t, err)
	_, err = mine.EnsureImage(t.Context(), judged, func(string) {})
	require.NoError(t, err)
	_, err = others.EnsureVolume(t.Context(), "w1")
	require.NoError(t, err)
	require.NoError(t, mine.Remove(t.Context(), "w1"))
	made, err := others.EnsureVolume(t.Context(), "w1")
	require.NoError(t, err)
	assert.False(t, made, "it is still there")
	require.NoError(t, others.Remove(t.Context(), "w1"))
}

// A workspace's root can write to the folder that holds its agent's socket. What it puts
// there must not make the service connect to another socket of the host.
func TestALinkInPlaceOfTheSocketIsNotFollowed(t *testing.T) {
	folder := t.TempDir()
	prize := filepath.Join(folder, "prize.sock")
	l, err := net.Listen("unix", prize)
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Symlink(prize, filepath.Join(folder, "agent.sock")))
	_, err = dialShared(t.Context(), folder, "agent.sock")
	assert.Equal(t, "agent-replaced", fault.Code(err), "%v", err)
	require.NoError(t, os.Remove(filepath.Join(folder, "agent.sock")))
	_, err = dialShared(t.Context(), folder, "agent.sock")
	assert.Equal(t, "agent-unreachable", fault.Code(err))
	conn, err := dialShared(t.Context(), folder, "prize.sock")
	require.NoError(t, err)
	conn.Close()
}

func TestPullFaults(t *testing.T) {
	s := &Site{}
	cases := map[string]struct {
		code      string
		transient bool
	}{
		"manifest unknown: manifest unknown":                                                {"image-not-found", false},
		"Get http://r/v2/: dial tcp 127.0.0.1:9: connection refused":                        {"registry-down", true},
		"received unexpected HTTP status: 503 Service Unavailable":                          {"registry-down", true},
		"unauthorized: authentication required":                                             {"image-denied", false},
		"dial tcp: lookup r.skerry.test: no such host":                                      {"registry-unknown", true},
		"invalid reference format: repository name must be lowercase":                       {"bad-image", false},
		"write /x: no space left on device":                                                 {"disk-full", false},
		"failed to update store for object type *libnetwork.endpoint":                       {"engine-unavailable", true},
		"unable to join session keyring: unable to create session key: disk quota exceeded": {"no-keys-left", false},
		"unable to remove filesystem for 2e8b: unlinkat /x: directory not empty":            {"engine-unavailable", true},
		"removal of container 2e8b is already in progress":                                  {"engine-unavailable", true},
		"endpoint with name boat already exists in network default":                         {"engine-unavailable", true},
		"something else": {"engine-refused", false},
	}
	for text, want := range cases {
		err := s.pullFault(errors.New(text), "r.skerry.test/base:1")
		assert.Equal(t, want.code, fault.Code(err), text)
		assert.Equal(t, want.transient, fault.IsTransient(err), text)
	}
}

// newElsewhere is the same engine, as if it were on another machine: it is reached by a
// stream, and no folder is shared with it.
func newElsewhere(t *testing.T, installation string, dialled *int) *Site {
	t.Helper()
	dial, _, err := Address(world.EngineAt)
	require.NoError(t, err)
	var counting sync.Mutex
	s, err := New(Options{Name: "elsewhere", Installation: installation, Agents: func(string) string { return agentBinary() }, Secret: []byte("tide"), ServiceKey: keysOf(t).ServicePublic(),
		Dial: func(ctx context.Context) (net.Conn, error) {
			counting.Lock()
			defer counting.Unlock()
			*dialled++
			return dial(ctx)
		}})
	require.NoError(t, err)
	return s
}

func TestAddressesOfEngines(t *testing.T) {
	for _, bad := range []string{"", "/var/run/engine.sock", "ssh://host", "unix://"} {
		_, _, err := Address(bad)
		assert.Equal(t, "bad-address", fault.Code(err), bad)
	}
	_, err := New(Options{Name: "here", Agents: func(architecture string) string { return "/nonexistent/agent-" + architecture }})
	assert.Equal(t, "no-agent", fault.Code(err))
}

// Who dials knows why nobody is there: nothing of how the engine would have been asked is told with it.
func TestWhoDialsSaysWhy(t *testing.T) {
	why := fault.Transient(nil, "machine-silent", "try again in a minute", "the rented instance has not called")
	s, err := New(Options{Name: "rented", Agents: func(string) string { return agentBinary() }, Dial: func(context.Context) (net.Conn, error) { return nil, why }})
	require.NoError(t, err)
	_, err = s.Connect(t.Context(), "w1")
	assert.EqualError(t, err, why.Error())
	assert.True(t, fault.IsTransient(err))
	assert.Equal(t, why.Remedy, fault.Remedy(err))
}
