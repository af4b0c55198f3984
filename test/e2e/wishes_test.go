package e2e

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
)

// keyAgent starts OpenSSH's agent with a key in it, and gives its socket and the key.
func keyAgent(t *testing.T) (socket, public string) {
	t.Helper()
	folder := t.TempDir()
	socket = filepath.Join(folder, "agent")
	serving := exec.CommandContext(context.WithoutCancel(t.Context()), "ssh-agent", "-D", "-a", socket)
	require.NoError(t, serving.Start())
	t.Cleanup(func() {
		_ = serving.Process.Kill()
		_ = serving.Wait() // it was killed
	})
	key := filepath.Join(folder, "key")
	out, err := exec.CommandContext(t.Context(), "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "steward@quay", "-f", key).CombinedOutput()
	require.NoError(t, err, string(out))
	eventually(t, 10*time.Second, "the key is in the agent", func() bool {
		c := exec.CommandContext(t.Context(), "ssh-add", "-q", key)
		c.Env = append(os.Environ(), "SSH_AUTH_SOCK="+socket)
		return c.Run() == nil
	})
	b, err := os.ReadFile(key + ".pub")
	require.NoError(t, err)
	return socket, strings.TrimSpace(string(b))
}

func read(t *testing.T, file string) string {
	t.Helper()
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(b)
}

// noted makes a program that notes in a file what it was given, and gives that file.
func noted(t *testing.T, folder, name, script string) (file string) {
	t.Helper()
	file = filepath.Join(folder, name+".noted")
	require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("#!/bin/sh\n"+strings.ReplaceAll(script, "FILE", file)+"\n"), 0o755))
	return file
}

// What programs inside ask of the machine that their person sits at: asked for, decided there, and gone
// with the usher.
func TestWhatAWorkspaceAsks(t *testing.T) {
	t.Parallel()
	programs := t.TempDir()
	u := &ushered{person: anotherPerson(t, "steward"), config: filepath.Join(t.TempDir(), "config"), said: filepath.Join(t.TempDir(), "said"), opened: filepath.Join(programs, "browser")}
	pages := noted(t, programs, "browser.sh", `printf '%s\n' "$1" >> FILE`)
	copied := noted(t, programs, "wl-copy", "cat > FILE")
	edited := noted(t, programs, "pen", `echo "$@" > FILE`)
	helped := noted(t, programs, "git-credential-cabin", `[ "$1" = get ] && cat > FILE && echo username=steward && echo password=anchor`)
	settings := filepath.Join(programs, "gitconfig")
	require.NoError(t, os.WriteFile(settings, []byte("[credential]\n\thelper = cabin\n"), 0o600))
	socket, public := keyAgent(t)
	u.env = []string{"PATH=" + programs + ":" + os.Getenv("PATH"), "WAYLAND_DISPLAY=none", "DISPLAY=", "GIT_CONFIG_GLOBAL=" + settings, "SSH_AUTH_SOCK=" + socket, "DOMICILE_EDITOR=pen"}
	a := u.domicile(t, "editors", "command", "pen", "pen {address} {path}")
	require.Equal(t, 0, a.status, a.err)
	a = u.provision(t, publish(t, "askdeck", board, nil), "deck")
	require.Equal(t, 0, a.status, a.err)
	inside := func(line string) answer { return u.at(t, "ssh", "-F", u.config, "deck.domicile", line) }
	within := func(line string) answer { return u.domicile(t, "run", "deck", "--", "sh", "-c", line) }

	a = within("usher open https://quay.test/")
	assert.Equal(t, 1, a.status)
	assert.Equal(t, "usher: no usher is at work at the machine you sit at; there: domicile usher\nTo open it yourself: https://quay.test/\n", a.err)
	u.begin(t)
	t.Cleanup(func() { u.end(t, syscall.SIGKILL) })
	heard := func() bool {
		s := u.status(t)
		return len(s.Places) == 1 && s.Places[0].Heard
	}
	eventually(t, 10*time.Second, "the workspace finds the usher", heard)

	t.Run("the first time asks", func(t *testing.T) {
		opening := u.command(t.Context(), "", "run", "deck", "--", "usher", "open", "https://quay.test/").Cmd
		require.NoError(t, opening.Start())
		eventually(t, 10*time.Second, "the person is asked", func() bool { return len(u.status(t).Questions) == 1 })
		assert.NoFileExists(t, pages)
		assert.Contains(t, u.domicile(t, "usher", "-status").out, "deck wants to open https://quay.test/ in your browser")
		a := u.domicile(t, "usher", "allow", "deck", "open")
		require.Equal(t, 0, a.status, a.err)
		require.NoError(t, opening.Wait())
		assert.Equal(t, "https://quay.test/\n", read(t, pages))
	})
	t.Run("a browser, as programs look for one", func(t *testing.T) {
		a := inside("python3 -m webbrowser https://quay.test/two")
		require.Equal(t, 0, a.status, a.err)
		assert.Contains(t, read(t, pages), "https://quay.test/two\n")
		u.serves(t, 9000)
		a = inside("usher open http://localhost:9000/deck")
		require.Equal(t, 0, a.status, a.err)
		local := u.status(t).Local("deck", "9000")
		assert.Contains(t, read(t, pages), "http://"+local+"/deck\n", "the port is there as soon as the page is")
		a = inside("usher open javascript:alert")
		assert.Equal(t, 1, a.status)
		assert.NotContains(t, read(t, pages), "javascript")
	})
	t.Run("an editor, the clipboard, a notice", func(t *testing.T) {
		for _, kind := range []string{"edit", "copy", "tell"} {
			require.Equal(t, 0, u.domicile(t, "usher", "allow", "deck", kind).status)
		}
		a := inside("cd /tmp && usher edit 'a file' && echo ahoy | usher copy && usher run sh -c 'exit 3'")
		assert.Equal(t, 3, a.status, a.err)
		eventually(t, 10*time.Second, "the editor is there", func() bool { _, err := os.Stat(edited); return err == nil })
		assert.Equal(t, "deck.domicile /tmp/a file\n", read(t, edited))
		assert.Equal(t, "ahoy\n", read(t, copied))
		assert.Contains(t, read(t, u.said), "deck: sh -c exit 3 ended with exit status 3")
		require.Equal(t, 0, u.domicile(t, "usher", "refuse", "deck", "show").status)
		a = inside("usher show /tmp")
		assert.Equal(t, answer{"", "usher: it is refused at the person's machine\nWhat to do: at the machine you sit at: domicile usher allow deck show.\nAt the machine you sit at: sftp deck\n", 1}, a)
	})
	t.Run("a sign-in for git, at one host", func(t *testing.T) {
		require.Equal(t, 0, u.domicile(t, "usher", "allow", "deck", "git", "git.quay.test").status)
		ask := func(host string) answer {
			return inside(`printf 'protocol=https\nhost=` + host + `\n\n' | GIT_TERMINAL_PROMPT=0 git credential fill`)
		}
		a := ask("git.quay.test")
		assert.Equal(t, "protocol=https\nhost=git.quay.test\nusername=steward\npassword=anchor\n", a.out, a.err)
		assert.Contains(t, read(t, helped), "host=git.quay.test\n")
		require.Equal(t, 0, u.domicile(t, "usher", "refuse", "deck", "git", "other.quay.test").status)
		a = ask("other.quay.test")
		assert.NotContains(t, a.out, "anchor")
		assert.Contains(t, a.err, "refused at the person's machine")
		a = inside("grep -rl anchor /home/crew /tmp /src /run 2>/dev/null; git config --list --show-origin | grep credential")
		assert.NotContains(t, a.out, "anchor", "nothing is written inside")
		assert.Contains(t, a.out, "command line:")
	})
	t.Run("keys, and a commit that is signed", func(t *testing.T) {
		require.Equal(t, 0, u.domicile(t, "usher", "refuse", "deck", "keys").status)
		assert.Contains(t, inside("ssh-add -L").out, "no identities")
		require.Equal(t, 0, u.domicile(t, "usher", "allow", "deck", "keys").status)
		assert.Equal(t, public+"\n", inside("ssh-add -L").out)
		a := inside(`set -e; rm -rf /tmp/log; git init -q /tmp/log; cd /tmp/log; git config user.name s; git config user.email s@quay.test; git config gpg.format ssh
			ssh-add -L > /tmp/key.pub; git config user.signingkey /tmp/key.pub; echo "s@quay.test $(cat /tmp/key.pub)" > /tmp/signers; git config gpg.ssh.allowedSignersFile /tmp/signers
			git commit -q --allow-empty -S -m signed; git log -1 --format=%G?`)
		assert.Equal(t, answer{"G\n", "", 0}, a)
		a = inside("ssh-add -D")
		assert.NotEqual(t, 0, a.status, "nothing but a signature is to be had")
	})
	t.Run("a port of this machine, kept inside", func(t *testing.T) {
		mock := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("a mock")) }))
		t.Cleanup(mock.Close)
		_, port, _ := strings.Cut(strings.TrimPrefix(mock.URL, "http://"), ":")
		a := u.domicile(t, "forward", "deck", "8123:"+port, "-reverse", "-keep")
		require.Equal(t, 0, a.status, a.err)
		eventually(t, 10*time.Second, "it is inside", func() bool {
			return within(`python3 -c 'import urllib.request as r; print(r.urlopen("http://localhost:8123").read().decode())'`).out == "a mock\n"
		})
		assert.Contains(t, u.domicile(t, "usher", "-status").out, "deck: port "+port+" of this machine is at localhost:8123 inside\n")
		assert.Equal(t, 2, u.domicile(t, "forward", "deck", "8123", "-keep").status)
	})
	t.Run("for the person alone", func(t *testing.T) {
		before := read(t, pages)
		out, _ := u.asRoot(t, "deck", "setpriv --reuid=12345 --regid=12345 --clear-groups sh -c '/opt/domicile/bin/usher open https://stowaway.test/; SSH_AUTH_SOCK="+wire.KeysSocket+" ssh-add -l'")
		assert.Contains(t, out, "no usher is at work")
		assert.Contains(t, out, "Permission denied")
		assert.Equal(t, before, read(t, pages))
	})
	t.Run("after a stop and a start, and gone with the usher", func(t *testing.T) {
		require.Equal(t, 0, u.domicile(t, "stop", "deck").status)
		require.Equal(t, 0, u.domicile(t, "start", "deck").status)
		eventually(t, 20*time.Second, "the workspace finds the usher again", heard)
		a := within("usher tell 'back again'")
		assert.Equal(t, 0, a.status, a.err)
		u.end(t, syscall.SIGKILL)
		eventually(t, 20*time.Second, "nobody is there", func() bool { return strings.Contains(within("usher tell 'anybody?'").err, "no usher is at work") })
		assert.NotEqual(t, 0, within("SSH_AUTH_SOCK="+wire.KeysSocket+" ssh-add -l").status)
		u.begin(t)
		eventually(t, 20*time.Second, "the workspace finds the next one", heard)
		assert.Equal(t, 0, within("usher tell 'and again'").status, "what was decided is kept")
		eventually(t, 10*time.Second, "and what appears inside", func() bool {
			return strings.Contains(within("python3 -c 'import socket; print(socket.create_connection((\"localhost\", 8123)))'").out, "raddr")
		})
		require.Equal(t, 0, u.domicile(t, "forward", "deck", "8123", "-reverse", "-forget").status)
	})
}
