package engine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/go-units"
	"golang.org/x/sys/unix"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
)

// settings maps what a plan says of a container to the engine's settings.
func (s *Site) settings(workspace string, p plan.Settings, h *container.HostConfig) error {
	h.Privileged, h.CapAdd, h.CapDrop, h.SecurityOpt, h.ReadonlyRootfs = p.Privileged, p.CapAdd, dropped(p), securityOptions(p.SecurityOpt), p.ReadOnly
	h.PidsLimit, h.LogConfig = new(most(p.Processes, judge.MostProcesses)), boundedLog
	h.Ulimits = defaultFiles(p.Ulimits)
	h.ShmSize, h.Memory, h.NanoCPUs = p.SharedMemory, p.Memory, int64(p.CPUs*1e9)
	h.ExtraHosts, h.DNS, h.GroupAdd, h.Sysctls = p.Hosts, p.DNS, p.Groups, p.Sysctls
	if p.Network != "" {
		h.NetworkMode = container.NetworkMode(p.Network)
	}
	h.PidMode, h.IpcMode = container.PidMode(p.Spaces["pid"]), container.IpcMode(p.Spaces["ipc"])
	h.UTSMode, h.UsernsMode, h.CgroupnsMode = container.UTSMode(p.Spaces["uts"]), userSpace(p), container.CgroupnsMode(p.Spaces["cgroupns"])
	for _, u := range p.Ulimits {
		limit, err := units.ParseUlimit(u)
		if err != nil {
			return fault.Wrap(err, "bad-limit", "write it as name=soft:hard", "%q is no limit", u)
		}
		h.Ulimits = append(h.Ulimits, limit)
	}
	for _, d := range p.Devices {
		parts := append(strings.SplitN(d, ":", 3), "", "")
		m := container.DeviceMapping{PathOnHost: parts[0], PathInContainer: parts[1], CgroupPermissions: parts[2]}
		if m.PathInContainer == "" {
			m.PathInContainer = m.PathOnHost
		}
		if m.CgroupPermissions == "" {
			m.CgroupPermissions = "rwm"
		}
		h.Devices = append(h.Devices, m)
	}
	if p.GPUs != "" {
		count := -1
		if n, err := strconv.Atoi(p.GPUs); err == nil {
			count = n
		}
		h.DeviceRequests = append(h.DeviceRequests, container.DeviceRequest{Count: count, Capabilities: [][]string{{"gpu"}}})
	}
	for i, m := range p.Mounts {
		if e, ok := s.mount(workspace, i, m); ok {
			h.Mounts = append(h.Mounts, e)
		}
	}
	return nil
}

// mount maps a mount. A volume is the workspace's own, whatever its name: another's with
// the same name stays another's.
func (s *Site) mount(workspace string, i int, m plan.Mount) (mount.Mount, bool) {
	e := mount.Mount{Target: m.Target, ReadOnly: m.ReadOnly}
	switch m.Type {
	case "bind":
		e.Type, e.Source = mount.TypeBind, m.Source
	case "tmpfs":
		e.Type = mount.TypeTmpfs
	case "source":
		e.Type, e.Source = mount.TypeVolume, s.name(workspace)
	case "volume":
		name := m.Source
		if name == "" {
			name = fmt.Sprintf("unnamed-%d", i)
		}
		e.Type, e.Source, e.VolumeOptions = mount.TypeVolume, s.name(workspace)+"-v-"+name, &mount.VolumeOptions{Labels: s.labels(workspace)}
	default:
		return e, false
	}
	return e, true
}

// boundedLog is what an engine keeps of a container's output.
var boundedLog = container.LogConfig{Type: "json-file", Config: map[string]string{"max-size": "10m", "max-file": "3"}}

// dropped are the capabilities that are taken away: those that are asked to be, and those
// that nearly nobody needs, unless they are asked for.
func dropped(p plan.Settings) []string {
	list := slices.Clone(p.CapDrop)
	asked := func(name string) bool {
		return slices.ContainsFunc(p.CapAdd, func(c string) bool { c = judge.CapabilityName(c); return c == name || c == "ALL" })
	}
	for _, name := range judge.Dropped {
		if !p.Privileged && !asked(name) && !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	return list
}

func most(asked, fallback int64) int64 {
	if asked > 0 {
		return asked
	}
	return fallback
}

// mostFiles is how many files a program may have open where nothing is said of them.
const mostFiles = 1 << 16

// defaultFiles bounds open files where nothing is said of them. An engine may not be able to
// give more than it has itself, and has at least what services on its host have.
func defaultFiles(asked []string) []*container.Ulimit {
	if slices.ContainsFunc(asked, func(u string) bool { return strings.HasPrefix(u, "nofile=") }) {
		return nil
	}
	n := int64(mostFiles)
	var mine unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &mine); err == nil && mine.Max < uint64(n) {
		n = int64(mine.Max)
	}
	return []*container.Ulimit{{Name: "nofile", Soft: n, Hard: n}}
}

func securityOptions(list []string) (out []string) {
	for _, o := range list {
		out = append(out, strings.Replace(o, "seccomp:", "seccomp=", 1))
	}
	return out
}
