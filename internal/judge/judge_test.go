package judge

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"domicile/internal/fault"
)

// refused gives what a judge of a policy says of something.
func refused(s Subject, ask func(*Judge)) string {
	j := New(s)
	ask(j)
	if j.Err() == nil {
		return ""
	}
	return j.Err().Error()
}

func TestImages(t *testing.T) {
	for name, want := range map[string]string{
		"base": "docker.io/library/base:latest", "base:12": "docker.io/library/base:12", "quay.test:5000/skerry/base": "quay.test:5000/skerry/base:latest", "deadbeef": "docker.io/library/deadbeef:latest",
		"quay.test/domicile-image:1": "quay.test/domicile-image:1", "skerry/domicile": "docker.io/skerry/domicile:latest",
		"quay.test/x:1@sha256:" + strings.Repeat("a", 64): "quay.test/x@sha256:" + strings.Repeat("a", 64),
	} {
		j := New(Subject{})
		i := j.Pulled("f:1", name)
		assert.NoError(t, j.Err(), name)
		assert.Equal(t, want, i.Name())
		assert.False(t, i.Made())
	}
	for _, name := range []string{"", "domicile-image:x", "domicile-state:x", "domicile", "DOMICILE-state:x", "library/domicile-image", "docker.io/library/domicile-image", "index.docker.io/domicile-state:x", strings.Repeat("a", 64), strings.Repeat("A", 64), "sha256:" + strings.Repeat("a", 64), "../x", "a b", "-x", "a\n", "http://x/y", "QUAY.test/skerry/base", "Docker.io/domicile-image:x"} {
		assert.NotEmpty(t, refused(Subject{}, func(j *Judge) { j.Pulled("f:1", name) }), name)
	}
	mine := Subject{Images: []string{"domicile-image:mine"}}
	j := New(mine)
	assert.True(t, j.Image("", "domicile-image:mine").Made())
	assert.NoError(t, j.Err())
	assert.NotEmpty(t, refused(mine, func(j *Judge) { j.Image("", "domicile-image:other") }))
	assert.Equal(t, "quay.test:5000", New(Subject{}).Pulled("", "quay.test:5000/x").Registry())
}

func TestMounts(t *testing.T) {
	folder := Subject{Folder: "/srv/tide"}
	for what, c := range map[string]struct {
		subject Subject
		mount   Mount
		says    string
	}{
		"a volume":              {mount: Mount{"volume", "cache", "/c"}},
		"one without a name":    {mount: Mount{"volume", "", "/c"}},
		"memory":                {mount: Mount{"tmpfs", "", "/run"}},
		"the source":            {mount: Mount{MountSource, "", "/src"}},
		"a file":                {mount: Mount{MountFile, "etc/x.conf", "/etc/x.conf"}},
		"its folder":            {folder, Mount{MountFolder, "/srv/tide", "/src"}, ""},
		"another folder":        {folder, Mount{MountFolder, "/srv/fares", "/src"}, "is not this workspace's source"},
		"no folder":             {mount: Mount{MountFolder, "", "/src"}, says: "is not this workspace's source"},
		"the host":              {mount: Mount{"bind", "/", "/host"}, says: "the folder / of the host"},
		"the engine":            {mount: Mount{"bind", "/var/run/docker.sock", "/s"}, says: "the socket /var/run/docker.sock"},
		"the host, allowed":     {Subject{Policy: Policy{AllowHostMounts}}, Mount{"bind", "/srv", "/host"}, ""},
		"allowed, going up":     {Subject{Policy: Policy{AllowHostMounts}}, Mount{"bind", "/srv/../etc", "/host"}, "no clean absolute path"},
		"allowed, relative":     {Subject{Policy: Policy{AllowHostMounts}}, Mount{"bind", "etc", "/host"}, "no clean absolute path"},
		"a path for a volume":   {mount: Mount{"volume", "/etc", "/c"}, says: "no name of a volume"},
		"a volume going up":     {mount: Mount{"volume", "..", "/c"}, says: "no name of a volume"},
		"a file above":          {mount: Mount{MountFile, "../x", "/x"}, says: "no file of the repository"},
		"memory from somewhere": {mount: Mount{"tmpfs", "/etc", "/x"}, says: "has no source"},
		"another kind":          {mount: Mount{"npipe", "x", "/x"}, says: "is not carried out"},
		"no kind":               {mount: Mount{"", "x", "/x"}, says: "is not carried out"},
	} {
		said := refused(c.subject, func(j *Judge) { j.Mount("f:1", c.mount) })
		if c.says == "" {
			assert.Empty(t, said, what)
			continue
		}
		assert.Contains(t, said, "f:1: ", what)
		assert.Contains(t, said, c.says, what)
	}
	for _, target := range []string{"/", "/.", "/proc", "/proc/1", "/sys/x", "/dev", "/dev/shm/..", "/opt", "/opt/domicile/x", "/run/domicile", "/var/run/domicile", "/var/run/domicile-door", "/run/../run/domicile", "relative", "", "/a\nb", "/a,b", "/.domicile-volumes"} {
		assert.NotEmpty(t, refused(Subject{}, func(j *Judge) { j.Target("", target) }), target)
	}
	for _, target := range []string{"/src", "/run", "/var/run/x", "/run/domicilex", "/opt/x", "/home/crew"} {
		assert.Empty(t, refused(Subject{}, func(j *Judge) { j.Target("", target) }), target)
	}
}

// What each allowance gives, and that nothing else does.
func TestAllowances(t *testing.T) {
	asks := map[string]func(*Judge){
		AllowPrivileged:      func(j *Judge) { j.Privileged("p", true) },
		AllowCapabilities:    func(j *Judge) { j.Capability("p", "cap_sys_admin") },
		AllowSecurityOptions: func(j *Judge) { j.SecurityOption("p", "seccomp=unconfined") },
		AllowHostMounts:      func(j *Judge) { j.Mount("p", Mount{"bind", "/srv", "/x"}) },
		AllowDevices:         func(j *Judge) { j.Device("p", "/dev/kmsg") },
		AllowHostSpaces:      func(j *Judge) { j.Network("p", "host") },
	}
	for allowance, ask := range asks {
		for _, policy := range append([]string{""}, Allowances...) {
			j := New(Subject{Policy: Policy{policy}})
			ask(j)
			if policy == allowance {
				assert.NoError(t, j.Err())
				continue
			}
			assert.Equal(t, "not-allowed-here", fault.Code(j.Err()))
			assert.Contains(t, fault.Remedy(j.Err()), "-allow "+allowance)
		}
	}
}

// What no allowance gives.
func TestNeverGiven(t *testing.T) {
	for what, ask := range map[string]func(*Judge){
		"another's network":   func(j *Judge) { j.Network("", "container:x") },
		"a named network":     func(j *Judge) { j.Network("", "domicile-x") },
		"another's processes": func(j *Judge) { j.Space("", "pid", "container:x") },
		"an unknown space":    func(j *Judge) { j.Space("", "time", "host") },
		"a host's setting":    func(j *Judge) { j.Sysctl("", "kernel.core_pattern", "x") },
		"a setting with dots": func(j *Judge) { j.Sysctl("", "net./../kernel.core_pattern", "x") },
		"priority":            func(j *Judge) { j.Ulimit("", "rtprio=1") },
		"files without end":   func(j *Judge) { j.Ulimit("", "nofile=-1") },
		"no limit":            func(j *Judge) { j.Ulimit("", "nofile") },
		"processes":           func(j *Judge) { j.Processes("", MostProcesses+1) },
		"processes, below 0":  func(j *Judge) { j.Processes("", -1) },
		"memory below 0":      func(j *Judge) { j.Amount("", -1) },
		"processors":          func(j *Judge) { j.Processors("", -1) },
		"no number":           func(j *Judge) { var zero float64; j.Processors("", zero/zero) },
		"a device elsewhere":  func(j *Judge) { j.Device("", "/etc/passwd") },
		"a device going up":   func(j *Judge) { j.Device("", "/dev/../etc/passwd") },
		"graphics":            func(j *Judge) { j.GPUs("", "-1") },
		"a hosts entry":       func(j *Judge) { j.HostEntry("", "a:b") },
		"a hosts line":        func(j *Judge) { j.HostEntry("", "a\nb:1.2.3.4") },
		"a name server":       func(j *Judge) { j.Address("", "x") },
		"a group":             func(j *Judge) { j.Group("", "a:b") },
		"a user":              func(j *Judge) { j.User("", "a b") },
		"a host name":         func(j *Judge) { j.HostName("", "a/b") },
		"a label":             func(j *Judge) { j.Label("", "Domicile.workspace") },
		"a variable":          func(j *Judge) { j.Variable("", "A=B", "c") },
		"a service":           func(j *Judge) { j.ServiceName("", "../x") },
		"a service aside":     func(j *Judge) { j.ServiceName("", "x.aside") },
		"another's helper":    func(j *Judge) { j.Helped("", "w7") },
		"a folder":            func(j *Judge) { j.HostFolder("", "/etc") },
		"a restart":           func(j *Judge) { j.Restart("", "sometimes") },
		"a signal":            func(j *Judge) { j.Signal("", "KILL;x") },
		"a grace":             func(j *Judge) { j.Grace("", time.Hour) },
		"a health check":      func(j *Judge) { j.HealthCheck("", []string{"RUN"}) },
		"a start folder":      func(j *Judge) { j.StartFolder("", "relative") },
		"a Dockerfile":        func(j *Judge) { j.RepositoryPath("", "../../etc/passwd") },
		"a text":              func(j *Judge) { j.Text("", "a\x00b") },
		"a capability less":   func(j *Judge) { j.DroppedCapability("", "a b") },
		"a digest":            func(j *Judge) { j.Digest("", "../x") },
	} {
		assert.NotEmpty(t, refused(Subject{Policy: Allowances, Parent: "w6"}, ask), what)
	}
}

var wholeName = regexp.MustCompile(`^[a-z0-9.:\[\]-]+/[a-z0-9._/-]+(:[\w.-]+|@sha256:[0-9a-f]{64})$`)

// Whatever is named: an image that goes to an engine has a whole name that is not ours, and
// nothing is mounted of the host.
func FuzzJudge(f *testing.F) {
	for _, s := range []string{"base:12", "domicile-state:x", "sha256:" + strings.Repeat("a", 64), "/etc", "../x", "/var/run/domicile", "host", "container:x"} {
		f.Add(s, s)
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		j := New(Subject{})
		i := j.Pulled("", a)
		if j.Err() == nil {
			first, rest, _ := strings.Cut(i.Name(), "/")
			if !wholeName.MatchString(i.Name()) || first == "docker.io" && (strings.HasPrefix(rest, "domicile") || strings.HasPrefix(rest, "library/domicile")) {
				t.Fatalf("%q goes to the engine as %q", a, i.Name())
			}
		}
		for _, kind := range []string{"bind", "volume", "tmpfs", MountSource, MountFile, MountFolder, a} {
			j := New(Subject{})
			j.Mount("", Mount{kind, a, b})
			if j.Err() != nil {
				continue
			}
			switch {
			case kind == "bind", kind == MountFolder, strings.ContainsAny(a, "/\\\x00") && kind != MountFile, strings.HasPrefix(a, ".."), strings.HasPrefix(a, "/"), !strings.HasPrefix(b, "/"), strings.Contains(b, "domicile") && TakenTarget(b):
				t.Fatalf("a mount of type %q from %q to %q is let through", kind, a, b)
			}
		}
		for _, ask := range []func(*Judge){func(j *Judge) { j.Network("", a) }, func(j *Judge) { j.Space("", "pid", a) }} {
			j := New(Subject{})
			ask(j)
			if j.Err() == nil && a != "" && a != "none" && a != "bridge" && a != "private" {
				t.Fatalf("the space or network %q is let through", a)
			}
		}
	})
}
