package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// otherServer starts OpenSSH's own server in a workspace's container, and gives its address.
// It is brought from this machine, which is of the same release as the image.
func otherServer(t testing.TB, container, key string) string {
	t.Helper()
	folder := t.TempDir()
	run := func(name string, args ...string) string {
		out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return string(out)
	}
	libraries := filepath.Join(folder, "lib")
	require.NoError(t, os.Mkdir(libraries, 0o755))
	for _, line := range strings.Split(run("ldd", "/usr/sbin/sshd"), "\n") {
		if _, file, found := strings.Cut(line, "=> /"); found && !strings.Contains(file, "libc.so") {
			run("cp", "-L", "/"+strings.Fields(file)[0], libraries)
		}
	}
	run("cp", "/usr/sbin/sshd", folder)
	run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(folder, "host"))
	public, err := os.ReadFile(key + ".pub")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "keys"), public, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "config"), []byte("Port 2022\nHostKey /opt/sshd/host\nAuthorizedKeysFile /opt/sshd/keys\nStrictModes no\nPidFile none\nUsePAM no\nSubsystem sftp internal-sftp\nPrintMotd no\nPrintLastLog no\nMaxSessions 50\n"), 0o644))
	engine := func(args ...string) string {
		out, err := engineSays(t, args...)
		require.NoError(t, err, out)
		return strings.TrimSpace(out)
	}
	engine("cp", folder, container+":/opt/sshd")
	engine("exec", "-u", "0", container, "sh", "-c", "chown -R 0:0 /opt/sshd; chmod 600 /opt/sshd/host; mkdir -p /run/sshd; useradd -r -d /run/sshd -s /usr/sbin/nologin sshd; usermod -p '*' crew")
	engine("exec", "-d", "-u", "0", "-e", "LD_LIBRARY_PATH=/opt/sshd/lib", container, "/opt/sshd/sshd", "-D", "-f", "/opt/sshd/config")
	return engine("inspect", "-f", "{{range .NetworkSettings.Networks}}{{.IPAddress}}{{end}}", container)
}

// What real clients do ends here as it does with OpenSSH's own server in the same container.
// Where it does not, docs/clients.md says why.
func TestRealClients(t *testing.T) {
	source := publish(t, "harbour", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "skipper-harbour").status)
	scripts, err := filepath.Abs("testdata/clients")
	require.NoError(t, err)
	ownHost, ownPort, _ := strings.Cut(world.Service.SSH, ":")
	container := strings.TrimPrefix(objects(t)[0], "/")
	servers := []struct{ name, host, port, login string }{
		{"domicile", ownHost, ownPort, "skipper-harbour"},
		{"OpenSSH", otherServer(t, container, skipper.key), "2022", "crew"},
	}
	for name, marks := range map[string]string{
		"ssh.sh": "status 3|typed|terminal|3000000|refused", "sftp.sh": "barrels|first", "rsync.sh": "same|Reef|refs/heads/main", "sshfs.sh": "replaced|same|not empty", "lftp.sh": "renamed|load",
		"tramp.sh": "ran in sea|asynchronous", "netrw.sh": "three", "with_paramiko.py": "DECK|HARBOUR|came b'back'", "with_asyncssh.py": "caught|BACK",
	} {
		t.Run(name, func(t *testing.T) {
			said := map[string]string{}
			for _, s := range servers {
				skipper.inside(t, "skipper-harbour", "rm -rf ~/sea")
				said[s.name] = withClient(t, filepath.Join(scripts, name), s.host, s.port, s.login)
			}
			for _, mark := range strings.Split(marks, "|") {
				assert.Contains(t, said["OpenSSH"], mark, "it did what it is here for")
			}
			assert.Equal(t, said["OpenSSH"], said["domicile"])
		})
	}
}

// withClient runs a script of a client against a server, which it knows as harbour.
func withClient(t *testing.T, script, host, port, login string) string {
	t.Helper()
	folder := t.TempDir()
	work := filepath.Join(folder, "work")
	require.NoError(t, os.Mkdir(work, 0o755))
	config := "Host harbour\n HostName " + host + "\n Port " + port + "\n User " + login + "\n IdentityFile " + skipper.key + "\n IdentitiesOnly yes\n IdentityAgent none\n StrictHostKeyChecking no\n UserKnownHostsFile /dev/null\n LogLevel ERROR\n"
	require.NoError(t, os.WriteFile(filepath.Join(folder, "config"), []byte(config), 0o600))
	for _, program := range []string{"ssh", "scp", "sftp"} {
		real, err := exec.LookPath(program)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, program), []byte("#!/bin/sh\nexec "+real+" -F "+folder+"/config \"$@\"\n"), 0o755))
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	c := exec.CommandContext(ctx, "bash", script)
	if filepath.Ext(script) == ".py" {
		c = exec.CommandContext(ctx, "/usr/bin/python3", "-u", script)
	}
	c.Dir, c.WaitDelay = work, time.Second
	c.Env = []string{"PATH=" + folder + ":/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin", "HOME=" + folder, "LC_ALL=C.UTF-8", "TZ=UTC", "TERM=xterm", "WORK=" + work, "SCRIPTS=" + filepath.Dir(script),
		"HOST=" + host, "PORT=" + port, "LOGIN=" + login, "KEY=" + skipper.key, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null"}
	out, err := c.CombinedOutput()
	if err != nil {
		t.Logf("%s: %v", filepath.Base(script), err)
	}
	return strings.ReplaceAll(string(out), work, "")
}
