package e2e

import (
	"encoding/base64"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// built is a folder with what scripts/install and scripts/package need, that others can read.
func built(t *testing.T) string {
	t.Helper()
	root, err := filepath.Abs("../..")
	require.NoError(t, err)
	folder, err := os.MkdirTemp("", "domicile-built-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, os.Mkdir(filepath.Join(folder, "bin"), 0o755))
	for _, what := range []string{"scripts", "deploy", "docs/install.md", "CHANGELOG.md", "bin/domicile", "bin/domicile-agent", "bin/domicile-reader"} {
		to := filepath.Join(folder, what)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		out, err := exec.CommandContext(t.Context(), "cp", "-r", filepath.Join(root, what), to).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	require.NoError(t, exec.CommandContext(t.Context(), "chmod", "-R", "a+rX", folder).Run())
	return folder
}

// Somebody without root installs the service, makes the first account by the link, and works; installs
// again while it runs; and takes the programs away.
func TestInstalledWithoutRoot(t *testing.T) {
	t.Parallel()
	const user = 65534 // nobody: PostgreSQL wants one that has a name
	o := newOwn(t)
	o.as = &syscall.Credential{Uid: user, Gid: user, Groups: []uint32{0}} // the engine's socket is this group's
	from, home := built(t), filepath.Join(filepath.Dir(o.data), "home")
	require.NoError(t, os.Mkdir(home, 0o755))
	require.NoError(t, os.Chown(home, user, user))
	settings, err := os.ReadFile(o.config)
	require.NoError(t, err)
	o.config, o.data = filepath.Join(home, ".config/domicile/service.toml"), filepath.Join(home, ".local/share/domicile")
	install := func(args ...string) answer {
		t.Helper()
		c := exec.CommandContext(t.Context(), filepath.Join(from, "scripts/install"), args...)
		c.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "DOMICILE_BUILT=1"}
		c.SysProcAttr = &syscall.SysProcAttr{Credential: o.as}
		return finish(t, c)
	}
	a := install()
	require.Equal(t, 0, a.status, a.out+a.err)
	program := filepath.Join(home, ".local/bin/domicile")
	assert.Contains(t, a.out, "start it by hand: "+program+" serve")
	require.NoError(t, os.WriteFile(o.config, settings, 0o644))
	o.program = program
	o.start(t)
	link, err := os.ReadFile(filepath.Join(o.data, "first-link"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(link), "http://"+o.web+"/setup#"), string(link))
	mate := o.mate(t)
	a = mate.domicile(t, "provision", publish(t, "installed", `{"image": "BASE", "remoteUser": "crew"}`, nil), "-name", "dock")
	require.Equal(t, 0, a.status, a.out+a.err)
	t.Cleanup(func() { mate.remove(t, "dock") })
	inside := func() string { return mate.sshAt(t, o.ssh, "dock", "hostname").out }
	assert.Equal(t, "dock\n", inside())

	a = install()
	require.Equal(t, 0, a.status, a.out+a.err)
	assert.Equal(t, "dock\n", inside(), "what runs goes on")
	kept, err := os.ReadFile(o.config)
	require.NoError(t, err)
	assert.Equal(t, settings, kept, "settings stay as they were")
	o.end(t, syscall.SIGTERM)
	o.start(t)
	assert.Equal(t, client.WorkspaceStateReady, mate.workspace(t, "dock").State)

	a = install("-remove")
	require.Equal(t, 0, a.status, a.out+a.err)
	assert.Contains(t, a.out, "What stays: the data in "+o.data)
	assert.NoFileExists(t, program)
	assert.NoDirExists(t, filepath.Join(home, ".local/lib/domicile"))
	assert.DirExists(t, o.data)
	require.NoError(t, os.WriteFile(program, []byte("another's"), 0o755))
	assert.Contains(t, install().err, "is not what this script put there")
}

// The Debian package in a fresh Debian: installed, tried, upgraded, removed and purged.
func TestTheDebianPackage(t *testing.T) {
	t.Parallel()
	from := built(t)
	c := exec.CommandContext(t.Context(), filepath.Join(from, "scripts/package"), from)
	c.Env = append(os.Environ(), "DOMICILE_BUILT=1")
	a := finish(t, c)
	require.Equal(t, 0, a.status, a.err)
	file := strings.TrimSpace(a.out)
	control, err := exec.CommandContext(t.Context(), "dpkg-deb", "--field", file).Output()
	require.NoError(t, err)
	for _, needed := range []string{"postgresql", "git", "openssh-client", "iproute2", "docker.io | podman"} {
		assert.Contains(t, string(control), needed)
	}
	unit, err := exec.CommandContext(t.Context(), "sh", "-c", "dpkg-deb --fsys-tarfile "+file+" | tar -xO ./lib/systemd/system/domicile.service").Output()
	require.NoError(t, err)
	for _, line := range []string{"User=domicile", "NoNewPrivileges=yes", "CapabilityBoundingSet=\n", "ProtectSystem=strict", "ExecStart=/usr/bin/domicile serve "} {
		assert.Contains(t, string(unit), line)
	}
	require.NoError(t, os.Chmod(file, 0o644))
	says, err := engineSays(t, "run", "--rm", "--user", "0", "--entrypoint", "bash", "-v", from+":/from:ro", world.RegistryAt+"/skerry/base:12", "-c", `
set -e
echo begun
dpkg -i --force-depends /from/*.deb >/tmp/said 2>&1
grep -o 'systemd does not run here' /tmp/said
stat -c '%U %a' /var/lib/domicile
runuser -u domicile -- domicile serve -config /etc/domicile.toml -data /var/lib/domicile 2>&1 | grep -o 'apt-get install .*' || true
echo 'size = "small"' >> /etc/domicile.toml
dpkg -i --force-depends /from/*.deb >/dev/null 2>&1
grep '^size' /etc/domicile.toml
touch /var/lib/domicile/kept
printf '#!/bin/sh\necho "$@" >> /asked\n' > /usr/local/bin/docker; chmod +x /usr/local/bin/docker
echo '0 --filter label=others' > /var/lib/domicile/installation
dpkg -r domicile >/dev/null 2>&1
ls -d /var/lib/domicile/kept; ! command -v domicile
dpkg -P domicile >/dev/null 2>&1
ls /asked 2>/dev/null || true
getent passwd domicile || echo nobody
find / -xdev -name '*domicile*' -not -path '/proc/*' -not -path '/from/*' -not -path '/run/*'
mkdir -p /var/lib/domicile && touch /var/lib/domicile/secret.key
dpkg -i --force-depends /from/*.deb 2>&1 | grep -o "is another user's.*give its data"
stat -c %U /var/lib/domicile/secret.key
echo over`)
	require.NoError(t, err, says)
	_, says, _ = strings.Cut(says, "begun\n") // what the engine says of the image comes before
	assert.Equal(t, "systemd does not run here\ndomicile 700\napt-get install postgresql iproute2 docker.io.\nsize = \"small\"\n/var/lib/domicile/kept\nnobody\nis another user's. End that service, give its data\nroot\nover", says)
}

// From the link that a new service prints to the first workspace: three steps of one page each, and a key
// that the browser has made lets OpenSSH in.
func TestFromTheLinkToAWorkspace(t *testing.T) {
	t.Parallel()
	o := newOwn(t)
	o.start(t)
	link, err := os.ReadFile(filepath.Join(o.data, "first-link"))
	require.NoError(t, err)
	source := publish(t, "firstboard", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	p := openBrowser(t)
	p.does(chromedp.Navigate(strings.TrimSpace(string(link))), see("input[name=name]"), fill("input[name=name]", "ada"), fill("input[name=password]", "low-water-mark"))
	p.picture("first-1")
	p.button("Make the account")
	p.shows("How you get in")
	p.accessible("the key")
	p.picture("first-2")
	p.button("Make one for me")
	p.shows("Keep your key")
	href, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`document.querySelector("a[download]").href`))
	require.NoError(t, err)
	_, coded, _ := strings.Cut(href, "base64,")
	key, err := base64.StdEncoding.DecodeString(coded)
	require.NoError(t, err)
	p.accessible("the key that was made")
	p.picture("first-2-made")
	p.button("It is saved")
	p.does(see("input[name=source]"), fill("input[name=source]", source))
	p.picture("first-3")
	p.button("Read it")
	p.shows("Make the workspace")
	p.button("Make the workspace")
	ada := &person{name: "ada", login: filepath.Join(t.TempDir(), "login"), key: filepath.Join(t.TempDir(), "key")}
	require.NoError(t, os.WriteFile(ada.key, key, 0o600))
	c, err := client.Open("http://"+o.web, "")
	require.NoError(t, err)
	token, err := client.Answer[client.Token](c.SignIn(t.Context(), client.Credentials{Name: "ada", Password: "low-water-mark"}))
	require.NoError(t, err)
	out, err := ada.command(t.Context(), token.Token+"\n", "login", "-server", "http://"+o.web).output()
	require.NoError(t, err, out)
	t.Cleanup(func() { ada.remove(t, "firstboard") })
	eventually(t, 60*time.Second, "it is entered with that key", func() bool { return ada.sshAt(t, o.ssh, "firstboard", "hostname").out == "firstboard\n" })
	// Anybody may have the command line for their machine.
	other := openBrowser(t)
	other.does(chromedp.Navigate("http://" + o.web + "/clients"))
	other.shows("The command line")
	other.accessible("the programs")
	other.picture("clients")
}
