package e2e

import (
	"bufio"
	"crypto/rand"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const probe = `{ "image": "BASE", "remoteUser": "crew", "workspaceFolder": "/src/deck",
  "workspaceMount": "source=${localWorkspaceFolder},target=/src/deck,type=bind",
  "containerEnv": { "FROM_CONTAINER": "keel", "GONE": "soon" },
  "remoteEnv": { "FROM_REMOTE": "${containerEnv:FROM_CONTAINER}-${containerWorkspaceFolderBasename}", "GONE": null, "PATH": "${containerEnv:PATH}:/opt/skerry" },
  "forwardPorts": [9000] }`

func TestOpenSSH(t *testing.T) {
	source := publish(t, "deck", probe, map[string]string{"README.md": "the deck\n"})
	require.Equal(t, 0, skipper.provision(t, source, "deck").status)
	at := "deck@127.0.0.1"

	t.Run("who, where and with what", func(t *testing.T) {
		a := skipper.ssh(t, "", at, `id -un; id -u; pwd; echo $HOME $FROM_CONTAINER $FROM_REMOTE ${GONE-unset}; echo $PATH; echo $DOMICILE_WORKSPACE; hostname`)
		assert.Equal(t, "crew\n1000\n/src/deck\n/home/crew keel keel-deck unset\n/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:/opt/skerry:/opt/domicile/bin\ndeck\ndeck\n", a.out, a.err)
	})
	t.Run("exit status and signals", func(t *testing.T) {
		assert.Equal(t, 7, skipper.ssh(t, "", at, "exit 7").status)
		assert.Equal(t, 255, skipper.ssh(t, "", at, "kill -TERM $$").status)
		assert.Equal(t, 127, skipper.ssh(t, "", at, "no-such-program").status)
	})
	t.Run("standard input is closed properly, output and errors stay apart", func(t *testing.T) {
		assert.Equal(t, answer{"3\nend\n", "aside\n", 0}, skipper.ssh(t, "a\nb\nc\n", at, "wc -l; echo end; echo aside >&2"))
		assert.Equal(t, answer{"in the shell\n", "", 4}, skipper.ssh(t, "echo in the shell\nexit 4\n", at))
	})
	t.Run("environment that the client sends", func(t *testing.T) {
		assert.Equal(t, "flood\n", skipper.ssh(t, "", "-o", "SetEnv=TIDE=flood", at, "echo $TIDE").out)
	})
	t.Run("a terminal that changes its size", func(t *testing.T) { terminalSize(t, at) })
	t.Run("sftp, scp and rsync bring back what they took", func(t *testing.T) { transfers(t, at) })
	t.Run("git clone over it", func(t *testing.T) {
		to := filepath.Join(t.TempDir(), "clone")
		c := exec.CommandContext(t.Context(), "git", "clone", "-q", "ssh://"+at+"/src/deck", to)
		c.Env = append(os.Environ(), "GIT_SSH_COMMAND=ssh "+strings.Join(skipper.sshOptions("-p"), " "))
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		b, err := os.ReadFile(filepath.Join(to, "README.md"))
		require.NoError(t, err)
		assert.Equal(t, "the deck\n", string(b))
	})
	t.Run("the clone inside is a normal one", func(t *testing.T) {
		assert.Equal(t, source+"\n## main...origin/main\n", skipper.ssh(t, "", at, "git remote get-url origin; git status -sb").out)
	})
	t.Run("forwards both ways", func(t *testing.T) { forwards(t, at) })
	t.Run("the person's keys are lent on request only", func(t *testing.T) { lendKeys(t, at) })
	t.Run("a wrong key learns nothing", func(t *testing.T) {
		stranger := &person{key: filepath.Join(t.TempDir(), "key")}
		require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", stranger.key).Run())
		known, unknown := stranger.ssh(t, "", at, "true"), stranger.ssh(t, "", "nosuch@127.0.0.1", "true")
		assert.Equal(t, 255, known.status)
		assert.Contains(t, known.err, "Permission denied")
		assert.Equal(t, strings.ReplaceAll(unknown.err, "nosuch", "deck"), known.err)
	})
	t.Run("an unknown workspace is told to who has a key", func(t *testing.T) {
		a := skipper.ssh(t, "", "dekc@127.0.0.1", "true")
		assert.Contains(t, a.err, `You have no workspace "dekc". Yours: deck.`)
	})
	t.Run("the fast cipher is taken", func(t *testing.T) {
		assert.Contains(t, skipper.ssh(t, "", "-v", "-o", "LogLevel=DEBUG1", at, "true").err, "cipher: aes128-gcm@openssh.com")
	})
}

func terminalSize(t *testing.T, at string) {
	c := exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), "-tt", at)...)
	f, err := pty.StartWithSize(c, &pty.Winsize{Rows: 30, Cols: 100})
	require.NoError(t, err)
	defer f.Close()
	lines := make(chan string, 1000)
	go func() {
		for s := bufio.NewScanner(f); s.Scan(); {
			lines <- s.Text()
		}
		close(lines)
	}()
	expect := func(want string) {
		t.Helper()
		limit := time.After(20 * time.Second)
		for {
			select {
			case line, ok := <-lines:
				require.True(t, ok, "the terminal ended before %q", want)
				if strings.Contains(line, want) {
					return
				}
			case <-limit:
				require.Fail(t, "not seen", want)
			}
		}
	}
	_, err = f.WriteString("tty; stty size\n")
	require.NoError(t, err)
	expect("/dev/pts/")
	expect("30 100")
	require.NoError(t, pty.Setsize(f, &pty.Winsize{Rows: 44, Cols: 132}))
	// The size travels apart from what is typed: ask until it has arrived.
	_, err = f.WriteString("until [ \"$(stty size)\" = '44 132' ]; do :; done; echo size-has-$((40+4))-rows\n")
	require.NoError(t, err)
	expect("size-has-44-rows")
	_, err = f.WriteString("exit 6\n")
	require.NoError(t, err)
	_ = c.Wait()
	assert.Equal(t, 6, c.ProcessState.ExitCode())
}

func transfers(t *testing.T, at string) {
	folder := t.TempDir()
	blob := make([]byte, 5<<20)
	_, _ = rand.Read(blob)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "cargo"), blob, 0o640))
	run := func(name string, args ...string) {
		t.Helper()
		c := exec.CommandContext(t.Context(), name, args...)
		c.Dir = folder
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	same := func(file string) {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(folder, file))
		require.NoError(t, err)
		assert.Equal(t, blob, b)
	}
	batch := filepath.Join(folder, "batch")
	require.NoError(t, os.WriteFile(batch, []byte("put cargo by-sftp\nget by-sftp back-by-sftp\nrename by-sftp moved\nls -l\nrm moved\n"), 0o600))
	run("sftp", append(skipper.sshOptions("-P"), "-b", batch, at)...)
	same("back-by-sftp")
	run("scp", append(skipper.sshOptions("-P"), "cargo", at+":/tmp/by-scp")...)
	run("scp", append(skipper.sshOptions("-P"), at+":/tmp/by-scp", "back-by-scp")...)
	same("back-by-scp")
	assert.Equal(t, "crew 640\n", skipper.ssh(t, "", at, "stat -c '%U %a' /tmp/by-scp").out)
	shell := "ssh " + strings.Join(skipper.sshOptions("-p"), " ")
	run("rsync", "-a", "-e", shell, "cargo", at+":/tmp/by-rsync")
	run("rsync", "-a", "-e", shell, at+":/tmp/by-rsync", "back-by-rsync")
	same("back-by-rsync")
}

// forwards tries -L to a program that listens on loopback inside, and -R from inside to here.
func forwards(t *testing.T, at string) {
	inside := exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), at, "exec python3 -m http.server --bind 127.0.0.1 9000")...)
	require.NoError(t, inside.Start())
	defer func() { _ = inside.Process.Kill(); _ = inside.Wait() }()
	here, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		_ = http.Serve(here, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "from the laptop") }))
	}()
	defer here.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	local := free.Addr().String()
	free.Close()
	c := exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), "-N", "-L", local+":127.0.0.1:9000", "-R", "9100:"+here.Addr().String(), at)...)
	require.NoError(t, c.Start())
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
	eventually(t, 15*time.Second, "the port is forwarded", func() bool {
		r, err := http.Get("http://" + local + "/README.md")
		if err != nil {
			return false
		}
		r.Body.Close()
		return r.StatusCode == http.StatusOK
	})
	a := skipper.ssh(t, "", at, "python3 -c \"import urllib.request as u; print(u.urlopen('http://127.0.0.1:9100').read().decode())\"")
	assert.Equal(t, "from the laptop\n", a.out, a.err)
	assert.NotEqual(t, 0, skipper.ssh(t, "", "-W", "127.0.0.1:9999", at).status, "nothing listens there")
}

// lendKeys starts a key agent of this machine and uses it from inside.
func lendKeys(t *testing.T, at string) {
	socket := filepath.Join(t.TempDir(), "agent")
	keys := exec.CommandContext(t.Context(), "ssh-agent", "-D", "-a", socket)
	require.NoError(t, keys.Start())
	defer func() { _ = keys.Process.Kill(); _ = keys.Wait() }()
	eventually(t, 5*time.Second, "the key agent listens", func() bool { _, err := os.Stat(socket); return err == nil })
	t.Setenv("SSH_AUTH_SOCK", socket)
	require.NoError(t, exec.CommandContext(t.Context(), "ssh-add", "-q", skipper.key).Run())
	// The base image has no OpenSSH: ask in the agent's own protocol how many keys there are.
	ask := `python3 -c "import os,socket; s=socket.socket(socket.AF_UNIX); s.connect(os.environ['SSH_AUTH_SOCK']); s.sendall(bytes([0,0,0,1,11])); b=s.recv(9); print(b[4], int.from_bytes(b[5:9],'big'))"`
	lent := finish(t, exec.CommandContext(t.Context(), "ssh", append([]string{"-A", "-o", "IdentityAgent=SSH_AUTH_SOCK"}, append(skipper.sshOptions("-p"), at, ask)...)...))
	assert.Equal(t, "12 1\n", lent.out, lent.err)
	assert.Equal(t, "none\n", skipper.ssh(t, "", at, "echo ${SSH_AUTH_SOCK-none}").out)
}
