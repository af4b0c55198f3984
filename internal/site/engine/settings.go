package engine

import (
	"fmt"
	"maps"
	"os"
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
	h.Ulimits = defaultLimits(p.Ulimits)
	h.ShmSize, h.Memory, h.NanoCPUs = p.SharedMemory, p.Memory, int64(p.CPUs*1e9)
	h.ExtraHosts, h.DNS, h.GroupAdd, h.Sysctls = p.Hosts, p.DNS, p.Groups, p.Sysctls
	h.DNSSearch = p.DNSSearch
	h.NetworkMode = s.networkMode(workspace, p)
	s.loopback6(h)
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

// networkMode maps the network that a container is on. The engine's usual bridge is none: all
// workspaces would meet there.
func (s *Site) networkMode(workspace string, p plan.Settings) container.NetworkMode {
	switch {
	case p.NetworkOf == judge.WorkspaceItself:
		return container.NetworkMode("container:" + s.name(workspace))
	case p.NetworkOf != "":
		return container.NetworkMode("container:" + s.serviceName(workspace, p.NetworkOf))
	case p.Network == "bridge":
		return ""
	}
	return container.NetworkMode(p.Network)
}

// loopback6 gives a container ::1: engines leave it out where a network has no IPv6, and then
// a program that listens on "localhost" is not where others look for it.
func (s *Site) loopback6(h *container.HostConfig) {
	const disabled = "net.ipv6.conf.lo.disable_ipv6"
	s.mu.Lock()
	here := s.shared != nil && *s.shared
	s.mu.Unlock()
	if _, err := os.Stat("/proc/sys/net/ipv6"); !here || err != nil || h.NetworkMode.IsHost() || h.NetworkMode.IsContainer() {
		return
	}
	if _, said := h.Sysctls[disabled]; !said {
		h.Sysctls = maps.Clone(h.Sysctls)
		if h.Sysctls == nil {
			h.Sysctls = map[string]string{}
		}
		h.Sysctls[disabled] = "0"
	}
}

// onAnothers takes from a container that is on another one's network what that one has.
func onAnothers(config *container.Config, h *container.HostConfig) {
	if h.NetworkMode.IsContainer() {
		config.Hostname, h.DNS, h.DNSSearch, h.ExtraHosts = "", nil, nil, nil
	}
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
		if m.Size > 0 {
			e.TmpfsOptions = &mount.TmpfsOptions{SizeBytes: m.Size}
		}
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

// mostFiles is how many files a program may have open where nothing is said of them;
// mostTasks is how many processes a person has at most in engines that say so themselves.
const (
	mostFiles = 1 << 16
	mostTasks = 1 << 20
)

// defaultLimits bounds open files, and processes, where nothing is said of them. An engine may
// not be able to give more than it has itself, and has at least what services on its host have.
func defaultLimits(asked []string) (list []*container.Ulimit) {
	for name, d := range map[string]struct {
		resource int
		most     int64
	}{"nofile": {unix.RLIMIT_NOFILE, mostFiles}, "nproc": {unix.RLIMIT_NPROC, mostTasks}} {
		if slices.ContainsFunc(asked, func(u string) bool { return strings.HasPrefix(u, name+"=") }) {
			continue
		}
		n := d.most
		var mine unix.Rlimit
		if err := unix.Getrlimit(d.resource, &mine); err == nil && mine.Max < uint64(n) {
			n = int64(mine.Max)
		} else if name == "nproc" {
			continue // the engine can give what it gives by itself
		}
		if name == "nproc" {
			n = min(n, mostPIDs())
		}
		list = append(list, &container.Ulimit{Name: name, Soft: n, Hard: n})
	}
	return list
}

// mostPIDs is how many processes this machine has numbers for; some engines give no more.
func mostPIDs() int64 {
	b, err := os.ReadFile("/proc/sys/kernel/pid_max")
	n, parseErr := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	if err != nil || parseErr != nil {
		return mostTasks
	}
	return n
}

func securityOptions(list []string) (out []string) {
	for _, o := range list {
		out = append(out, strings.Replace(o, "seccomp:", "seccomp=", 1))
	}
	return out
}
