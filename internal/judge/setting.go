package judge

import (
	"domicile/internal/amount"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// harmless are the capabilities that reach nothing beyond the container. NET_RAW is none of
// them: with it, a workspace can answer for its neighbours' gateway.
var harmless = []string{"SYS_PTRACE", "AUDIT_WRITE", "CHOWN", "DAC_OVERRIDE", "FOWNER", "FSETID", "KILL", "MKNOD", "NET_BIND_SERVICE", "SETFCAP", "SETGID", "SETPCAP", "SETUID", "SYS_CHROOT"}

// Dropped are the capabilities that an engine gives unasked and that nearly no workspace
// needs: they are taken away from every container that does not ask for them.
var Dropped = []string{"MKNOD", "NET_RAW"}

// Bounds of what a container may ask for.
const (
	// MostProcesses is how many processes a workspace or a service may have, and has unless
	// it asks for fewer.
	MostProcesses = 4096
	// MostServices is how many services a workspace may have beside its own container.
	MostServices = 30
	// MostFiles is how many files a process may have open.
	MostFiles = 1 << 20
	mostGrace = 10 * time.Minute
	mostHosts = 256
)

// CapabilityName is a capability as an engine names it.
func CapabilityName(name string) string { return strings.TrimPrefix(strings.ToUpper(name), "CAP_") }

// Capability judges a capability that is added.
func (j *Judge) Capability(place, name string) {
	if plain := CapabilityName(name); !slices.Contains(harmless, plain) {
		j.Need(AllowCapabilities, place, "it asks for the capability %s", plain)
	}
}

// DroppedCapability judges one that is taken away: fewer do no harm, but it must be one.
func (j *Judge) DroppedCapability(place, name string) {
	if !capability(CapabilityName(name)) {
		j.Refuse(place, "%q is no capability", name)
	}
}

func capability(plain string) bool {
	return plain != "" && strings.Trim(plain, "ABCDEFGHIJKLMNOPQRSTUVWXYZ_0123456789") == ""
}

// SecurityOption judges a security option.
func (j *Judge) SecurityOption(place, option string) {
	if option != "no-new-privileges" && option != "no-new-privileges:true" && option != "no-new-privileges=true" {
		j.Need(AllowSecurityOptions, place, "it asks for the security option %s", option)
	}
}

// Privileged judges a container that asks for all rights.
func (j *Judge) Privileged(place string, asked bool) {
	if asked {
		j.Need(AllowPrivileged, place, "it asks to be privileged")
	}
}

// Device judges a device of the host: "host[:container[:permissions]]".
func (j *Judge) Device(place, device string) {
	host, _, _ := strings.Cut(device, ":")
	j.Need(AllowDevices, place, "it asks for the device %s of the host", device)
	if j.Allows(AllowDevices) && (!strings.HasPrefix(host, "/dev/") || strings.Contains(host, "..")) {
		j.Refuse(place, "%s is no device of the host", device)
	}
}

// GPUs judges a wish for graphics processors.
func (j *Judge) GPUs(place, asked string) {
	if asked == "" {
		return
	}
	j.Need(AllowDevices, place, "it asks for graphics processors of the host")
	if n, err := strconv.Atoi(asked); asked != "all" && (err != nil || n < 1) {
		j.Refuse(place, "%q is no number of graphics processors; write all, or a number", asked)
	}
}

// Network judges the network of a container, as it is written. A workspace is on its own
// networks alone: none is taken by its name.
func (j *Judge) Network(place, mode string) {
	switch mode {
	case "", "none", "bridge":
	case "host":
		j.Need(AllowHostSpaces, place, "it asks for the network host")
	default:
		j.Refuse(place, "it asks for the network %s: a workspace is on its own networks alone", mode)
	}
}

// WorkspaceItself stands for the workspace's own container where a service is named.
const WorkspaceItself = "."

// NetworkOf judges the service whose network a container is on: one of the same workspace. A
// site makes the container's name of it, which is nobody else's.
func (j *Judge) NetworkOf(place, service string) {
	if service != "" && service != WorkspaceItself {
		j.ServiceName(place, service)
	}
}

// Space judges another namespace that a container asks for: pid, ipc, uts, userns or
// cgroupns. Those of other containers are never given.
func (j *Judge) Space(place, space, value string) {
	known := slices.Contains([]string{"pid", "ipc", "uts", "userns", "cgroupns"}, space)
	switch {
	case !known:
		j.Refuse(place, "%s is no space of a container", space)
	case value == "private", space == "ipc" && (value == "none" || value == "shareable"):
	case value == "host":
		j.Need(AllowHostSpaces, place, "it asks for another %s space (%s)", space, value)
	default:
		j.Refuse(place, "it asks for the %s space %s: another container's is not given", space, value)
	}
}

// sysctls that belong to the container's own network and ipc spaces.
var sysctls = []string{"net.", "kernel.shm", "kernel.msg", "kernel.sem", "fs.mqueue."}

// Sysctl judges a setting of the kernel.
func (j *Judge) Sysctl(place, name, value string) {
	own := slices.ContainsFunc(sysctls, func(s string) bool { return strings.HasPrefix(name, s) })
	if !own || strings.Trim(name, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-") != "" || strings.ContainsAny(value, "\x00\n") {
		j.Refuse(place, "the kernel setting %s belongs to the whole host", name)
	}
}

// limits are the limits of a process that a container may ask for, each with the most that
// it may be; 0: without bound.
var limits = map[string]int64{"core": 0, "cpu": 0, "data": 0, "fsize": 0, "locks": 0, "memlock": 0, "msgqueue": 0, "nofile": MostFiles, "nproc": 0, "rss": 0, "sigpending": 0, "stack": 0}

// Ulimit judges a limit of processes, "name=soft[:hard]".
func (j *Judge) Ulimit(place, text string) {
	name, amounts, found := strings.Cut(text, "=")
	most, known := limits[name]
	if !found || !known {
		j.Refuse(place, "the limit %q is not carried out", text)
		return
	}
	for part := range strings.SplitSeq(amounts, ":") {
		n, err := strconv.ParseInt(part, 10, 64)
		if err != nil || n < -1 || most > 0 && (n < 0 || n > most) {
			j.Refuse(place, "the limit %q is no amount that a container may have", text)
			return
		}
	}
}

// Amount judges an amount of memory, in bytes; 0 is none asked for.
func (j *Judge) Amount(place string, bytes int64) {
	if bytes < 0 || bytes > 0 && bytes < 4<<20 {
		j.Refuse(place, "%d is no amount of memory that a container can have", bytes)
	}
}

// SharedMemory judges how much memory programs may share, or files in memory (tmpfs) may take, in bytes.
func (j *Judge) SharedMemory(place string, bytes int64) {
	switch {
	case bytes < 0:
		j.Refuse(place, "%d is not an amount of memory", bytes)
	case j.Memory > 0 && bytes > j.Memory/2:
		j.Refuse(place, "files in memory may take at most half of the memory, %s; it asks for %s", amount.Of(j.Memory/2), amount.Of(bytes))
	}
}

// Processors judges a number of processors; 0 is none asked for.
func (j *Judge) Processors(place string, n float64) {
	if !(n >= 0 && n <= 4096) { // not a number neither
		j.Refuse(place, "%v is no number of processors", n)
	}
}

// Processes judges how many processes a container may have.
func (j *Judge) Processes(place string, n int64) {
	if n < 0 || n > MostProcesses {
		j.Refuse(place, "a container may have at most %d processes, not %d", MostProcesses, n)
	}
}

// Grace judges how long a service has to end.
func (j *Judge) Grace(place string, d time.Duration) {
	if d < 0 || d > mostGrace {
		j.Refuse(place, "a service has at most %s to end, not %s", mostGrace, d)
	}
}

// HealthCheck judges how often a health check runs.
func (j *Judge) HealthCheck(place string, test []string, every ...time.Duration) {
	if len(test) > 0 && !slices.Contains([]string{"NONE", "CMD", "CMD-SHELL"}, test[0]) {
		j.Refuse(place, "a health check begins with NONE, CMD or CMD-SHELL, not %q", test[0])
	}
	for _, d := range every {
		if d < 0 || d > 0 && d < time.Millisecond {
			j.Refuse(place, "a health check cannot take or wait %s", d)
		}
	}
}

// Hosts judges how many entries a hosts file gets.
func (j *Judge) Hosts(place string, entries []string) {
	if len(entries) > mostHosts {
		j.Refuse(place, "a hosts file has at most %d entries", mostHosts)
	}
}

var domainLabel = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_-]*$`)

// SearchDomain judges a domain in which short names are looked up; "." is none.
func (j *Judge) SearchDomain(place, name string) {
	if name == "." {
		return
	}
	for _, label := range strings.Split(strings.TrimSuffix(name, "."), ".") {
		if len(name) > 253 || len(label) > 63 || !domainLabel.MatchString(label) {
			j.Refuse(place, "%q is no domain to look names up in", name)
			return
		}
	}
}

// The ranges in which a network of a workspace may lie: those that belong to nobody.
var ownRanges = []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("172.16.0.0/12"), netip.MustParsePrefix("192.168.0.0/16"), netip.MustParsePrefix("fd00::/8")}

// Subnet judges the range of addresses of a network. It becomes a route of the site's host,
// so it lies where private networks do and takes not too much of them; whether the host has
// another route there, the site sees.
func (j *Judge) Subnet(place, text string) {
	p, err := netip.ParsePrefix(text)
	if err != nil || p != p.Masked() {
		j.Refuse(place, "%q is no range of addresses, such as 172.30.1.0/24", text)
		return
	}
	least := 16
	if p.Addr().Is6() {
		least = 64
	}
	if p.Bits() < least || !slices.ContainsFunc(ownRanges, func(r netip.Prefix) bool { return r.Overlaps(p) && r.Bits() <= p.Bits() }) {
		j.Refuse(place, "a network may not have the range %s: it lies in 10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16 or fd00::/8 and has at most 65536 addresses (fd00::/8: a /64)", p)
	}
}

// hardwareAddress is that of one interface: the lowest bit of its first byte is 0.
var hardwareAddress = regexp.MustCompile(`^[0-9A-Fa-f][02468ACEace](:[0-9A-Fa-f]{2}){5}$`)

// MAC judges the hardware address of an interface: a single one.
func (j *Judge) MAC(place, text string) {
	if text == "" {
		return
	}
	if !hardwareAddress.MatchString(text) {
		j.Refuse(place, "%q is no hardware address of one interface", text)
	}
}
