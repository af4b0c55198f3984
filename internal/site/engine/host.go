package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"strings"

	"github.com/docker/docker/api/types"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/system"

	"domicile/internal/plan"
	"domicile/internal/site"
)

var _ site.Measurer = (*Site)(nil)

// hostFacts are what is known of the host of an engine; they change only with a restart.
type hostFacts struct {
	memory int64  // bytes
	folder string // where the engine's data lies; empty: on another machine
	base   int    // the host's number of the containers' root; 0: they are the same
	podman bool   // it is one of Podman's, which differs as isOwnerless and apart say
}

func (s *Site) remember(ctx context.Context, info system.Info) error {
	podman := false
	if !s.o.Alone { // the engine of a machine is Debian's docker.io
		version, err := s.api.ServerVersion(ctx)
		if err != nil {
			return s.explain(err, "ask the engine for its version")
		}
		podman = slices.ContainsFunc(version.Components, func(c types.ComponentVersion) bool { return strings.HasPrefix(c.Name, "Podman") })
	}
	local := s.onThisMachine(info.Name)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.host.memory, s.host.base = info.MemTotal, mappedBase(info.DockerRootDir)
	if local {
		s.host.folder = info.DockerRootDir
	}
	s.host.podman = podman
	return nil
}

func (s *Site) isPodman() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.host.podman
}

// isOwnerless tells that the engine's archives do not tell whose files are.
func (s *Site) isOwnerless() bool { return s.isPodman() }

// bridgeName is the option of a network that names its device.
const bridgeName = "com.docker.network.bridge.name"

// apart are the options of a network. Podman tells nowhere what its device is called, and it
// keeps no networks apart: so its devices have names that the border knows.
func (s *Site) apart(name string, options map[string]string) map[string]string {
	if !s.isPodman() {
		return options
	}
	all := map[string]string{bridgeName: deviceOf(name)}
	maps.Copy(all, options)
	return all
}

// podmanDevice begins the names of the devices of Podman's networks.
const podmanDevice = "dmpd"

// deviceOf names the device of a network of Podman's.
func deviceOf(network string) string {
	sum := sha256.Sum256([]byte(network))
	return podmanDevice + hex.EncodeToString(sum[:5])
}

// shareOfMemory is the part of a host's memory that a workspace or a service has that asks
// for none: one that takes all it can get leaves its neighbours as much.
const shareOfMemory = 2

// boundMemory bounds the memory of a container that has no bound of its own. The host was
// asked about before: its folders were looked at.
func (s *Site) boundMemory(h *container.HostConfig, least int64) {
	s.mu.Lock()
	memory := s.host.memory
	s.mu.Unlock()
	if h.Memory == 0 && memory > 0 {
		h.Memory = max(memory/shareOfMemory, least)
	}
}

// Free looks at the disk that the engine's data lies on.
func (s *Site) Free(ctx context.Context) (int64, bool, error) {
	if _, err := s.isLocal(ctx); err != nil {
		return 0, false, err
	}
	s.mu.Lock()
	folder := s.host.folder
	s.mu.Unlock()
	if folder == "" {
		return 0, false, nil
	}
	free := diskFree(folder)
	return free, free > 0, nil
}

// Written adds up what the containers of each workspace have written, and its volumes. The
// engine looks at every file for that.
func (s *Site) Written(ctx context.Context) (map[string]int64, error) {
	list, err := s.ownContainers(ctx, "", true)
	if err != nil {
		return nil, s.explain(err, "measure what the workspaces have written")
	}
	written := map[string]int64{}
	for _, c := range list {
		written[c.Labels[labelWorkspace]] += c.SizeRw
	}
	usage, err := s.api.DiskUsage(ctx, types.DiskUsageOptions{Types: []types.DiskUsageObject{types.VolumeObject}})
	if err != nil {
		return nil, s.explain(err, "measure the workspaces' volumes")
	}
	for _, v := range usage.Volumes {
		if v.Labels[labelInstallation] == s.o.Installation && v.UsageData != nil && v.UsageData.Size > 0 {
			written[v.Labels[labelWorkspace]] += v.UsageData.Size
		}
	}
	delete(written, "")
	return written, nil
}

// userSpace decides about the user space of a container. Where the engine maps root to
// nobody, it does so for all but those that policy lets have the host's rights: they could
// not use them.
func userSpace(p plan.Settings) container.UsernsMode {
	if p.Privileged || p.Network == "host" || p.Spaces["pid"] == "host" || p.Spaces["ipc"] == "host" {
		return "host"
	}
	return container.UsernsMode(strings.TrimPrefix(p.Spaces["userns"], "private"))
}
