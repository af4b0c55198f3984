package e2e

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/netspace"
)

// debian is one that has booted, with systemd as its first process.
type debian struct {
	root string
	pid  string
	net  *os.File
}

// newDebian makes a fresh one and boots it.
func newDebian(t *testing.T) *debian {
	t.Helper()
	folder, err := os.MkdirTemp("", "domicile-debian-")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(folder)) })
	d := &debian{root: filepath.Join(folder, "root")}
	out, err := exec.CommandContext(t.Context(), "mmdebstrap", "--quiet", "--variant=minbase", "--include=systemd,systemd-sysv,ca-certificates", "bookworm", d.root).CombinedOutput()
	require.NoError(t, err, string(out))
	resolver, err := os.ReadFile("/etc/resolv.conf")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(d.root, "etc/resolv.conf"), resolver, 0o644))
	groups := filepath.Base(folder)
	said, err := os.Create(filepath.Join(folder, "said"))
	require.NoError(t, err)
	defer said.Close()
	c := exec.Command("testdata/boot", d.root, groups) // it ends in the clean-up, not with the test's context
	c.Stdout, c.Stderr = said, said
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
		list, _ := filepath.Glob("/sys/fs/cgroup/*/" + groups)
		for _, group := range list {
			_ = exec.Command("find", group, "-depth", "-type", "d", "-exec", "rmdir", "{}", ";").Run() // what is left of it goes with this machine
		}
	})
	eventually(t, 60*time.Second, "it has booted", func() bool {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", c.Process.Pid, c.Process.Pid))
		if d.pid = strings.TrimSpace(string(b)); err != nil || d.pid == "" {
			return false
		}
		state := strings.TrimSpace(d.says(t, "systemctl", "is-system-running").out)
		return state == "running" || state == "degraded"
	})
	d.net, err = os.Open("/proc/" + d.pid + "/ns/net")
	require.NoError(t, err)
	t.Cleanup(func() { d.net.Close() })
	return d
}

// says runs a program in it.
func (d *debian) says(t *testing.T, words ...string) answer {
	t.Helper()
	return finish(t, exec.CommandContext(t.Context(), "nsenter", append([]string{"-t", d.pid, "-a"}, words...)...))
}

// does runs a line that must go well.
func (d *debian) does(t *testing.T, line string) string {
	t.Helper()
	a := d.says(t, "sh", "-ec", line)
	require.Equal(t, 0, a.status, "%s: %s%s", line, a.out, a.err)
	return a.out
}

// apt runs apt-get in it, in the network of this machine: its own has no way to the archive.
func (d *debian) apt(t *testing.T, words ...string) string {
	t.Helper()
	c := exec.CommandContext(t.Context(), "nsenter", append([]string{"-t", d.pid, "-m", "-u", "-i", "-p", "-C", "apt-get", "-y", "-q", "-o", "APT::Install-Recommends=false"}, words...)...)
	c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
	a := finish(t, c)
	require.Equal(t, 0, a.status, "%v: %s%s", words, a.out, a.err)
	return a.out
}

// here is a port of this machine that leads to one of it.
func (d *debian) here(t *testing.T, port string) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer near.Close()
				var far net.Conn
				if err := netspace.Within(d.net, func() (err error) {
					far, err = net.Dial("tcp", "127.0.0.1:"+port)
					return err
				}); err != nil {
					return
				}
				defer far.Close()
				netspace.Both(far, near, near)
			}()
		}
	}()
	return l.Addr().String()
}

// there makes an address of this machine one of its.
func (d *debian) there(t *testing.T, address string) {
	t.Helper()
	var l net.Listener
	require.NoError(t, netspace.Within(d.net, func() (err error) {
		l, err = net.Listen("tcp", address)
		return err
	}))
	t.Cleanup(func() { l.Close() })
	go netspace.Join(l, address)
}

// version puts a package of the service into it, of this version.
func (d *debian) version(t *testing.T, version string) (file string) {
	t.Helper()
	from := built(t)
	c := exec.CommandContext(t.Context(), filepath.Join(from, "scripts/package"), filepath.Join(d.root, "root"))
	c.Env = append(os.Environ(), "DOMICILE_BUILT=1", "DOMICILE_VERSION="+version)
	a := finish(t, c)
	require.Equal(t, 0, a.status, a.err)
	return "/root/" + filepath.Base(strings.TrimSpace(a.out))
}

// The package in a fresh Debian that has booted: systemd starts the service, a workspace is made from a
// folder, a newer package comes in while a terminal is open, and nothing is left at the end.
func TestPlacesADebianOfItsOwn(t *testing.T) {
	d := newDebian(t)
	first, second := d.version(t, "0.1"), d.version(t, "0.2")
	d.there(t, world.RegistryAt)
	d.apt(t, "update")
	said := d.apt(t, "install", first)
	for _, needed := range []string{"postgresql-15", "docker.io", "git", "openssh-client"} {
		assert.Contains(t, said, "Setting up "+needed+" (", "what it depends on comes with it")
	}
	require.Contains(t, said, "To make the first account, open this link once:")
	require.Equal(t, "active", strings.TrimSpace(d.says(t, "systemctl", "is-active", "domicile").out))
	d.does(t, fmt.Sprintf(`mkdir -p /srv/repositories/quay/.devcontainer
echo '{"image": "%[1]s/skerry/base:12", "remoteUser": "crew"}' > /srv/repositories/quay/.devcontainer/devcontainer.json
cd /srv/repositories/quay && git init -q && git add . && git -c user.name=Ann -c user.email=ann@skerry.test commit -qm 'The quay'
printf 'outside = ["%[1]s"]\nsource-folders = ["/srv/repositories"]\n' >> /etc/domicile.toml
systemctl restart domicile`, world.RegistryAt))

	web, shell := d.here(t, "4380"), d.here(t, "4322")
	eventually(t, 60*time.Second, "it is ready", func() bool { return (&own{web: web}).ready() })
	_, code, _ := strings.Cut(strings.TrimSpace(d.does(t, "cat /var/lib/domicile/first-link")), "#")
	mate := firstAccount(t, "http://"+web, code)
	a := mate.domicile(t, "provision", "/srv/repositories/quay", "-name", "quay")
	require.Equal(t, 0, a.status, a.out+a.err)
	enter := func(line string) string { return mate.sshAt(t, shell, "quay", line).out }
	assert.Equal(t, "quay\n", enter("hostname"))

	a = mate.domicile(t, "example", "-json")
	require.Equal(t, 0, a.status, a.err)
	a = mate.domicile(t, "provision", "/var/lib/domicile/example", "-name", "first")
	assert.Equal(t, 0, a.status, "the example needs nothing else: %s", a.out+a.err)

	// A terminal is open, and something runs in it.
	terminal := exec.CommandContext(t.Context(), "script", "-qfec", filepath.Join(programs, "domicile")+" shell quay -terminal watch", "/dev/null")
	terminal.Env = append(os.Environ(), "DOMICILE_LOGIN_FILE="+mate.login)
	keys, err := terminal.StdinPipe()
	require.NoError(t, err)
	var shown bytes.Buffer
	terminal.Stdout, terminal.Stderr = &shown, &shown
	require.NoError(t, terminal.Start())
	defer func() { _ = terminal.Process.Kill(); _ = terminal.Wait() }()
	types := func(line string) {
		t.Helper()
		_, err := keys.Write([]byte(line + "\n"))
		require.NoError(t, err)
	}
	types("echo $$ > /tmp/shell; LAMP=lit")
	eventually(t, 30*time.Second, "the terminal is open", func() bool { return enter("cat /tmp/shell") != "" })
	before, started := enter("cat /tmp/shell"), d.says(t, "systemctl", "show", "-P", "MainPID", "domicile").out

	d.apt(t, "install", second)
	assert.Contains(t, d.says(t, "dpkg-query", "-W", "-f", "${Version}", "domicile").out, "0.2")
	assert.NotEqual(t, started, d.says(t, "systemctl", "show", "-P", "MainPID", "domicile").out, "it was started anew")
	assert.Contains(t, d.does(t, "cat /etc/domicile.toml"), "source-folders", "settings stay")
	eventually(t, 60*time.Second, "the terminal has come back", func() bool {
		types("echo $LAMP $$ > /tmp/after")
		return enter("cat /tmp/after") == "lit "+before
	})
	assert.Equal(t, client.WorkspaceStateReady, mate.workspace(t, "quay").State)
	types("exit")

	// Killed, it comes back by itself, with the database that it had.
	d.does(t, "kill -9 $(systemctl show -P MainPID domicile)")
	eventually(t, 60*time.Second, "it is ready again", func() bool { return (&own{web: web}).ready() })
	assert.Equal(t, "1\n", d.does(t, "cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' ' | grep -o 'postgres -D /var/lib/[d]omicile' | wc -l"))
	assert.Equal(t, "quay\n", enter("hostname"))
	assert.NotZero(t, d.says(t, "runuser", "-u", "nobody", "--", "ls", "/var/lib/domicile").status, "it is nobody else's")

	d.apt(t, "remove", "domicile")
	assert.Equal(t, "inactive", strings.TrimSpace(d.says(t, "systemctl", "is-active", "domicile").out))
	assert.NotEmpty(t, d.does(t, "docker ps -q"), "the workspace stays")
	d.does(t, "test -d /var/lib/domicile")
	d.apt(t, "purge", "domicile")
	for _, list := range []string{"docker ps -aq", "docker volume ls -q", "docker images -q --filter label=domicile.installation", "docker network ls -q --filter label=domicile.installation", "getent passwd domicile || true", "grep -l domicile -r /etc | grep -v -e '-$' || true", "find / -xdev -name '*domicile*' -not -path '/root/*' -not -path '/tmp/*' -not -path '/var/lib/docker/*'"} {
		assert.Empty(t, d.does(t, list), list)
	}
}

// Somebody without root installs it, with an engine of their own that is not root's either: systemd
// starts it for this user, a workspace is made, an upgrade comes in, and programs and unit are gone.
func TestPlacesADebianWithoutRoot(t *testing.T) {
	d := newDebian(t)
	d.there(t, world.RegistryAt)
	d.apt(t, "update")
	d.apt(t, "install", "postgresql", "git", "openssh-client", "iproute2", "podman", "runc", "uidmap", "slirp4netns", "dbus-user-session", "libpam-systemd", "curl")
	d.does(t, "systemctl start dbus.socket systemd-logind && useradd -m -s /bin/bash ann && loginctl enable-linger ann")
	out, err := exec.CommandContext(t.Context(), "cp", "-r", built(t), filepath.Join(d.root, "home/ann/built")).CombinedOutput()
	require.NoError(t, err, string(out))
	ann := func(line string) string {
		t.Helper()
		return d.does(t, "cd /home/ann && exec runuser -u ann -- env XDG_RUNTIME_DIR=/run/user/$(id -u ann) PATH=/home/ann/.local/bin:/usr/bin:/bin HOME=/home/ann sh -ec '"+line+"'")
	}
	d.does(t, fmt.Sprintf(`printf '[[registry]]\nlocation = "%s"\ninsecure = true\n' > /etc/containers/registries.conf.d/skerry.conf
printf '[engine]\nruntime = "runc"\n' > /etc/containers/containers.conf # crun wants other control groups than this machine has`, world.RegistryAt))
	d.does(t, "until [ -S /run/user/$(id -u ann)/bus ]; do sleep 0.1; done")
	ann("systemctl --user enable --now podman.socket")
	install := "DOMICILE_BUILT=1 built/scripts/install"
	require.Contains(t, ann(install), "To make the first account, open this link once:")
	ann(fmt.Sprintf(`mkdir -p quay/.devcontainer && echo "{\"image\": \"%[1]s/skerry/base:12\", \"remoteUser\": \"crew\"}" > quay/.devcontainer/devcontainer.json
cd quay && git init -q && git add . && git -c user.name=Ann -c user.email=ann@skerry.test commit -qm quay
printf "outside = [\"%[1]s\"]\nsource-folders = [\"/home/ann\"]\n" >> ~/.config/domicile/service.toml
systemctl --user restart domicile`, world.RegistryAt))
	web, shell := d.here(t, "4380"), d.here(t, "4322")
	eventually(t, 60*time.Second, "it is ready", func() bool { return (&own{web: web}).ready() })
	_, code, _ := strings.Cut(strings.TrimSpace(ann("cat ~/.local/share/domicile/first-link")), "#")
	mate := firstAccount(t, "http://"+web, code)
	a := mate.domicile(t, "provision", "/home/ann/quay", "-name", "quay")
	require.Equal(t, 0, a.status, a.out+a.err)
	enter := func(line string) string { return mate.sshAt(t, shell, "quay", line).out }
	assert.Equal(t, "quay\n", enter("hostname; setsid -f sleep 4242 </dev/null >/dev/null 2>&1"))
	assert.NotContains(t, ann(install), "first account", "there is one")
	eventually(t, 60*time.Second, "it is ready again", func() bool { return (&own{web: web}).ready() })
	assert.NotEmpty(t, enter("pgrep -f 'sleep 4242'"), "what runs goes on")

	said := ann("built/scripts/install -remove")
	assert.Contains(t, said, "What stays: the data in /home/ann/.local/share/domicile")
	assert.Equal(t, "0\n", d.does(t, "cat /proc/[0-9]*/cmdline 2>/dev/null | tr '\\0' ' ' | grep -o 'postgres -D /home/[a]nn' | wc -l"))
	assert.Empty(t, d.does(t, "find / -xdev -name '*domicile*' -not -path '/home/ann/built/*' -not -path '/home/ann/.local/share/*' -not -path '/home/ann/.config/domicile*' -not -path '/home/ann/.config/cni/*' -not -path '/tmp/*' -not -path '/root/*'"))
}

// firstAccount makes the first account of a service, by the code of its link.
func firstAccount(t *testing.T, at, code string) *person {
	t.Helper()
	c, err := client.Open(at, "")
	require.NoError(t, err)
	first, err := client.Answer[client.Token](c.MakeFirstAccount(t.Context(), client.FirstAccount{Code: code, Name: "mate", Password: "all-hands-on-deck"}))
	require.NoError(t, err)
	folder := t.TempDir()
	p := &person{name: "mate", token: first.Token, login: filepath.Join(folder, "mate.json"), key: filepath.Join(folder, "key")}
	p.api, err = client.Open(at, first.Token)
	require.NoError(t, err)
	out, err := p.command(context.WithoutCancel(t.Context()), first.Token+"\n", "login", "-server", at).output()
	require.NoError(t, err, out)
	require.NoError(t, exec.CommandContext(t.Context(), "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", p.key).Run())
	require.Equal(t, 0, p.domicile(t, "keys", "add", p.key+".pub").status)
	return p
}
