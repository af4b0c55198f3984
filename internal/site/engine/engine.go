// Package engine is the site kind for a container engine that offers the Engine API over
// a socket.
package engine

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/client"
	"github.com/google/go-containerregistry/pkg/authn"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/recipe"
	"domicile/internal/site"
	"domicile/internal/site/engine/door"
)

// Labels of everything that is made here.
const (
	labelInstallation = "domicile.installation"
	labelWorkspace    = "domicile.workspace"
	labelDigest       = "domicile.digest"
	labelBeside       = "domicile.agent-beside" // the agent is started beside the image's own command
	labelAgentFolder  = "domicile.agent-folder" // the agent listens in a folder of its engine's host
	labelGuests       = "domicile.guests"       // a helper: its agent serves its workspace's network
	labelImage        = "domicile.image"        // an image that was built here, with its recipe's digest
	labelAgent        = "domicile.agent"        // the volume of an agent, with its digest
	labelHooks        = "domicile.hooks"        // commands for when a service was started, as JSON
	labelFolder       = "domicile.folder"       // the folder of the host that is mounted as the source
)

// Options says which engine, and whose objects.
type Options struct {
	// Name is what messages call the engine by, such as its address.
	Name string
	// Dial opens a stream to the engine: to a socket of this machine, or through whatever
	// leads to another one.
	Dial func(ctx context.Context) (net.Conn, error)
	// Installation names the service's installation: objects of others are never touched.
	Installation string
	// Agents gives the path of the agent's binary for an architecture, as Go names it.
	Agents func(architecture string) (file string)
	// BuildAt gives an engine that builds images for this one, where this one cannot; nil: none.
	BuildAt func() *Site
	// Shared are folders of this machine, for an engine that has the same file system. Nil:
	// it is elsewhere. Then agents are reached by the engine's streams, and no folder of this
	// machine can be in a workspace.
	Shared *Shared
	// Private tells that nobody else can read or change what goes to the engine and comes from it: it is
	// on this machine, or behind SSH.
	Private bool
	// Alone tells that the engine runs in a machine that is one workspace's alone, which is the
	// border: a container is on the machine's own network, and no networks are tried.
	Alone bool
	// Secret makes the names of images that are made here impossible to guess. Services that
	// share an engine's objects share it.
	Secret []byte
	// ServiceKey is the public key, as in an authorized_keys line, that agents know the
	// service by.
	ServiceKey string
	// MayAsk judges the host of a registry before the engine is told to pull from it; nil:
	// every host may be asked.
	MayAsk func(ctx context.Context, host string) error
	// Agent opens a stream to the agent of a workspace, by the socket in its folder of the engine's
	// host (channel.AgentFolder), which containers that are made have; nil: there is no such way.
	Agent func(ctx context.Context, workspace string) (net.Conn, error)
	// Fetch brings an image that was asked for through a door, and was judged; nil: the engine
	// pulls it.
	Fetch func(ctx context.Context, image judge.Image, progress func(line string)) error
	// Youngest is how old something must be to be told as left over; 0: ten minutes.
	Youngest time.Duration
	// HTTP fetches what the ADD of a Dockerfile names; nil: the usual client.
	HTTP *http.Client
	// Trials is held while networks are tried: two sites may reach one engine, and share it. Nil:
	// none does.
	Trials *sync.Mutex
	// Keychain has the credentials of registries; nil: none.
	Keychain authn.Keychain
}

// Shared are folders that an engine on this machine can mount.
type Shared struct {
	// Sockets holds the agents' sockets, each in a folder that its workspace may write to.
	// Empty: the engine's streams are used.
	Sockets string
	// Views is for views of the host's folders where the engine maps its users. Empty: there
	// are none.
	Views string
}

// Site is a container engine.
type Site struct {
	o         Options
	api       *client.Client
	elsewhere bool // it has other files than this machine

	making                      sync.Mutex // held while a network is made
	bordering                   sync.Mutex // held while the border between networks is set
	mu                          sync.Mutex
	agent                       agentFile       // for the architecture of its host
	unreached                   error           // why it could not be dialled last
	network                     string          // the network's name once it is known to be there
	filled                      map[string]bool // engine ids whose agent volume is known to be filled
	shared                      *bool           // the engine shares the host's file system
	host                        hostFacts       // what is known of its host
	looked                      isolation       // what was last found between networks
	unbounded, unboundedVolumes bool            // its file system is known to bound no container, no volume
	trial                       trial           // what the last trial of two of them showed
}

var _ site.Site = (*Site)(nil)

// Abilities are what the engine can, as far as it is known: it need not have answered yet.
func (s *Site) Abilities() site.Abilities {
	a := site.Abilities{Beside: s, Overseer: s, Aside: s, Keeper: s, Carrier: s, Joiner: s, Doors: s, Differ: s, Sweeper: s, Measurer: s}
	if s.isOwnerless() { // a snapshot would have everything be root's
		a.Keeper, a.Carrier = nil, nil
	}
	return a
}

// New makes a site. The engine need not be there yet.
func New(o Options) (*Site, error) {
	s := &Site{o: o, filled: map[string]bool{}}
	// The address is never dialled: where requests go is the dialer's to know.
	api, err := client.NewClientWithOpts(client.WithHost("unix:///engine"), client.WithAPIVersionNegotiation(),
		client.WithDialContext(func(ctx context.Context, _, _ string) (net.Conn, error) { return s.dial(ctx) }))
	if err != nil {
		return nil, fmt.Errorf("engine at %s: %w", o.Name, err)
	}
	s.api = api
	if s.agent, err = readAgent(o.Agents, runtime.GOARCH); err != nil {
		return nil, err
	}
	if o.Trials == nil {
		s.o.Trials = &sync.Mutex{}
	}
	if o.Youngest == 0 {
		s.o.Youngest = youngest
	}
	if s.elsewhere = o.Shared == nil; s.elsewhere {
		s.o.Shared = &Shared{}
	}
	return s, nil
}

// Architecture tells what the processors of the engine's host are, as its system names them.
func (s *Site) Architecture(ctx context.Context) (string, error) {
	info, err := s.api.Info(ctx)
	return info.Architecture, s.explain(err, "ask the engine about itself")
}

// dial opens a stream to the engine, and remembers why it could not: its client tells only
// an address, which here is none.
func (s *Site) dial(ctx context.Context) (net.Conn, error) {
	conn, err := s.o.Dial(ctx)
	if err != nil && ctx.Err() == nil {
		s.mu.Lock()
		s.unreached = err
		s.mu.Unlock()
	}
	return conn, err
}

// Kind is site.Engine.
func (s *Site) Kind() site.Kind { return site.Engine }

// AgentVersion is the digest of the agent's binary, which its volume is named by.
func (s *Site) AgentVersion() string { return s.agentNow().digest }

func (s *Site) agentNow() agentFile {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.agent
}

// Examine asks the engine about itself and its host.
func (s *Site) Examine(ctx context.Context) (site.Facts, error) {
	info, err := s.api.Info(ctx)
	if err != nil {
		return site.Facts{}, s.explain(err, "ask the engine about itself")
	}
	f := site.Facts{Engine: "container engine " + info.ServerVersion, System: info.OperatingSystem + ", " + info.Architecture, Architecture: info.Architecture,
		Processors: info.NCPU, MemoryBytes: info.MemTotal}
	f.DataFolder = info.DockerRootDir
	_, f.GPU = info.Runtimes[gpuRuntime]
	if err := s.chooseAgent(info.Architecture); err != nil {
		return site.Facts{}, err
	}
	if err := s.remember(ctx, info); err != nil {
		return site.Facts{}, err
	}
	if !s.o.Alone {
		f.Joined = s.networksJoined(ctx)
	}
	f.UserNamespaces = slices.ContainsFunc(info.SecurityOptions, func(o string) bool {
		return strings.HasPrefix(o, "name=userns") || strings.HasPrefix(o, "name=rootless")
	})
	if f.Elsewhere = !s.onThisMachine(info.Name); !f.Elsewhere {
		f.DiskFreeBytes, f.Devices = diskFree(info.DockerRootDir), devices("/dev")
		if _, err := exec.LookPath(gpuHook); err == nil {
			f.GPU = true
		}
	}
	return f, nil
}

// An engine gives graphics processors to containers where it has this runtime, or finds
// this program beside it.
const (
	gpuRuntime = "nvidia"
	gpuHook    = "nvidia-container-runtime-hook"
)

// onThisMachine tells whether the engine shares this machine's file system, and remembers it.
func (s *Site) onThisMachine(engineHost string) bool {
	name, err := os.Hostname()
	same := err == nil && name == engineHost && !s.elsewhere
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shared = &same
	return same
}

// sharesFolder tells whether the agents' sockets lie in a folder that host and container
// share. They are made by root inside, whom only root of the host can reach there: a service
// of another user takes the engine's streams.
func (s *Site) sharesFolder(ctx context.Context) (bool, error) {
	local, err := s.isLocal(ctx)
	return local && s.o.Shared.Sockets != "" && os.Getuid() == 0, err
}

// isLocal tells whether a folder of this machine can be mounted into containers.
func (s *Site) isLocal(ctx context.Context) (bool, error) {
	s.mu.Lock()
	known := s.shared
	s.mu.Unlock()
	if known != nil {
		return *known, nil
	}
	info, err := s.api.Info(ctx)
	if err != nil {
		return false, s.explain(err, "ask the engine about itself")
	}
	if err := s.chooseAgent(info.Architecture); err != nil {
		return false, err
	}
	if err := s.remember(ctx, info); err != nil {
		return false, err
	}
	return s.onThisMachine(info.Name), nil
}

func (s *Site) name(workspace string) string { return "domicile-" + s.o.Installation + "-" + workspace }

// labels are those of everything that is made for a workspace. All of Domicile's own are
// set: a container has the labels of its image too, and those are somebody else's word.
func (s *Site) labels(workspace string) map[string]string {
	return map[string]string{labelInstallation: s.o.Installation, labelWorkspace: workspace, labelDigest: "", labelBeside: "", labelGuests: "", labelAgentFolder: "", labelService: "", labelSnapshot: "", labelVolumes: "",
		labelImage: "", labelAgent: "", labelHooks: "", labelFolder: "", labelOutlet: "", door.Label: ""}
}

func (s *Site) socketFolder(workspace string) string {
	return filepath.Join(s.o.Shared.Sockets, workspace)
}

// hidden is an HMAC of a name that is made here: who knows what goes into it does not know
// the name.
func (s *Site) hidden(parts ...string) string {
	h := hmac.New(sha256.New, s.o.Secret)
	for _, p := range parts {
		fmt.Fprintf(h, "%d %s\n", len(p), p)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// local is the name under which the engine has an image that a plan names.
func (s *Site) local(name string) string {
	if digest, built := strings.CutPrefix(name, recipe.TagPrefix); built {
		return recipe.TagPrefix + s.hidden("image", digest)
	}
	if s.o.Alone && !strings.HasPrefix(name, broughtTag) {
		return brought(name)
	}
	return name
}

// goingAway are words of an engine whose parts are stopped or not up yet: it answers, but
// says nothing of the request.
var goingAway = []string{"failed to update store", "connection is unavailable", "transport is closing", "shutting down", "ttrpc: closed", "error while dialing", "context canceled"}

// filterBusy are words of an engine that could not write the packet filter, because
// something else on its host was writing it or had just cleared it.
var filterBusy = []string{"iptables failed", "iptables: No chain/target/match", "Another app is currently holding the xtables lock"}

// stillHeld are words of an engine that could not remove a container whose last programs were
// just ending, or that it is removing already: a moment later it can.
var stillHeld = []string{"unable to remove filesystem", "is already in progress", "driver failed to remove root filesystem", "device or resource busy"}

// atNetworkAlready are words of an engine that has something of a container's name at a network: the
// container is connected, or the engine was told to end while it started it, and keeps until it has ended
// what that start left.
const atNetworkAlready = "already exists in network"

const startEngine = "start the container engine; what was under way goes on by itself"

// explain turns an engine's error into one that a person can act on.
func (s *Site) explain(err error, doing string) error {
	var known *fault.Fault
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known) && client.IsErrConnectionFailed(err): // who dials says it all
		return known
	case errors.As(err, &known):
		return err
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%s: %w", doing, err)
	case client.IsErrConnectionFailed(err):
		s.mu.Lock()
		defer s.mu.Unlock()
		if errors.As(s.unreached, &known) { // who dials knows better what leads there
			return s.unreached
		}
		return fault.Transient(s.unreached, "engine-unavailable", startEngine, "the container engine at %s does not answer (%s)", s.o.Name, doing)
	case strings.Contains(err.Error(), "EOF"), strings.Contains(err.Error(), "connection reset"),
		strings.Contains(err.Error(), "connection refused"):
		return fault.Transient(err, "engine-unavailable", startEngine, "the container engine at %s does not answer (%s)", s.o.Name, doing)
	case containsAny(err.Error(), goingAway...):
		return fault.Transient(err, "engine-unavailable", startEngine,
			"the container engine at %s is going away or coming up (%s)", s.o.Name, doing)
	case containsAny(err.Error(), filterBusy...):
		return fault.Transient(err, "engine-unavailable", "see what else changes the packet filter of the engine's host", "the container engine could not set its network up (%s)", doing)
	case containsAny(err.Error(), stillHeld...):
		return fault.Transient(err, "engine-unavailable", "look what holds its files on the engine's host", "the container engine could not take away all of a container yet (%s)", doing)
	case strings.Contains(err.Error(), atNetworkAlready):
		return fault.Transient(err, "engine-unavailable", "restart the container engine", "the container engine still has what an earlier start left at a network (%s)", doing)
	case strings.Contains(err.Error(), "session key"):
		return fault.Wrap(err, "no-keys-left", "on the engine's host: sysctl kernel.keys.maxkeys=20000 kernel.keys.maxbytes=2000000 (docs/trust.md); or remove workspaces",
			"the engine's host has no key left for one more container (%s)", doing)
	case strings.Contains(err.Error(), "no space left on device"):
		return fault.Wrap(err, "disk-full", "free space on the engine's disk, then try again", "the engine's disk is full (%s)", doing)
	case cerrdefs.IsUnavailable(err):
		return fault.Transient(err, "engine-unavailable", "", "the container engine is not ready (%s)", doing)
	}
	return fault.Wrap(err, "engine-refused", "", "the container engine refused to %s", doing)
}

func isNotFound(err error) bool { return cerrdefs.IsNotFound(err) }
