package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/usher"
)

// An usher needs an account of its own in these tests: one account has one at a machine.
type ushered struct {
	*person
	config string // ssh's settings
	opened string // a file with the addresses that the browser was given
	said   string // a file with what the usher said
	usher  *exec.Cmd
}

// begin starts the usher.
func (u *ushered) begin(t *testing.T) {
	t.Helper()
	u.usher = u.command(context.WithoutCancel(t.Context()), "", "usher", "-ssh-config", u.config).Cmd
	u.usher.Env = append(u.usher.Env, "BROWSER="+u.opened+".sh")
	said, err := os.OpenFile(u.said, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer said.Close()
	u.usher.Stdout, u.usher.Stderr = said, said
	require.NoError(t, u.usher.Start())
	eventually(t, 20*time.Second, "the usher is connected", func() bool { return u.status(t).Connected })
}

// end ends it.
func (u *ushered) end(t *testing.T, by syscall.Signal) {
	t.Helper()
	require.NoError(t, u.usher.Process.Signal(by))
	_ = u.usher.Wait()
}

func (u *ushered) status(t *testing.T) (s usher.Status) {
	t.Helper()
	if a := u.domicile(t, "usher", "-status", "-json"); a.status == 0 {
		require.NoError(t, json.Unmarshal([]byte(a.out), &s))
	}
	return s
}

// at calls ssh with nothing but what the usher has written.
func (u *ushered) at(t *testing.T, program string, args ...string) answer {
	t.Helper()
	c := exec.CommandContext(t.Context(), program, args...)
	return finish(t, c)
}

// gets asks a port of a workspace by this machine's; empty: nobody answers.
func (u *ushered) gets(t *testing.T, workspace, port string) string {
	t.Helper()
	local := u.status(t).Local(workspace, port)
	if local == "" {
		return ""
	}
	r, err := http.Get("http://" + local + "/")
	if err != nil {
		return ""
	}
	defer r.Body.Close()
	b, _ := io.ReadAll(r.Body)
	return string(b)
}

const board = `{ "image": "BASE", "remoteUser": "crew", "workspaceFolder": "/src/deck", "name": "deck",
  "workspaceMount": "source=${localWorkspaceFolder},target=/src/deck,type=bind",
  "portsAttributes": { "9000": { "label": "Board", "protocol": "http", "onAutoForward": "openBrowserOnce" }, "9100-9200": { "onAutoForward": "ignore" } } }`

// serves has a program listen inside, on loopback alone.
func (u *ushered) serves(t *testing.T, port int) {
	t.Helper()
	a := u.at(t, "ssh", "-F", u.config, "deck.domicile", fmt.Sprintf("cd /tmp && echo quay > index.html && setsid -f python3 -m http.server --bind 127.0.0.1 %d >/dev/null 2>&1 </dev/null", port))
	require.Equal(t, 0, a.status, a.err)
}

func TestAnUsher(t *testing.T) {
	t.Parallel()
	u := &ushered{person: anotherPerson(t, "purser"), config: filepath.Join(t.TempDir(), "config"), said: filepath.Join(t.TempDir(), "said")}
	u.opened = filepath.Join(t.TempDir(), "opened")
	require.NoError(t, os.WriteFile(u.opened+".sh", []byte("#!/bin/sh\nprintf '%s\\n' \"$1\" >> "+u.opened+"\n"), 0o755))
	const own = "Host *\n  ProxyCommand nowhere\n\nMatch all\n  Compression no\n"
	require.NoError(t, os.WriteFile(u.config, []byte(own), 0o600))
	b := newBridge(t)
	require.NoError(t, os.WriteFile(u.login, fmt.Appendf(nil, `{"server": "http://%s", "token": %q}`, b.listener.Addr(), u.token), 0o600))
	made := u.provision(t, publish(t, "usherdeck", board, nil), "deck")
	require.Equal(t, 0, made.status, made.err)
	assert.Contains(t, u.domicile(t, "usher", "-status").err, "no usher is at work")
	u.begin(t)
	t.Cleanup(func() { u.end(t, syscall.SIGKILL) })

	t.Run("ssh knows the address, and asks nothing", func(t *testing.T) {
		a := u.at(t, "ssh", "-F", u.config, "deck.domicile", "id -un; pwd")
		assert.Equal(t, answer{"crew\n/src/deck\n", "", 0}, a)
		file := filepath.Join(t.TempDir(), "cargo")
		require.NoError(t, os.WriteFile(file, []byte(strings.Repeat("cargo ", 400_000)), 0o644))
		require.Equal(t, 0, u.at(t, "scp", "-q", "-F", u.config, file, "deck.domicile:/tmp/cargo").status)
		a = u.at(t, "rsync", "-e", "ssh -F "+u.config, "deck.domicile:/tmp/cargo", file+".back")
		require.Equal(t, 0, a.status, a.err)
		assert.Equal(t, 0, u.at(t, "cmp", file, file+".back").status)
		a = u.at(t, "ssh", "-F", u.config, "deck+root.domicile", "true")
		assert.Contains(t, a.err, "does not allow people to come into a workspace as another user (root)")
		a = u.at(t, "ssh", "-F", u.config, "nosuch.domicile", "true")
		assert.Equal(t, 255, a.status)
		assert.Contains(t, a.err, "nosuch")
	})
	t.Run("every way in is tried, and told where it fails", func(t *testing.T) {
		home := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(home, ".ssh"), 0o700))
		settings := u.config
		address := func(args ...string) answer {
			c := u.command(t.Context(), "", append([]string{"address", "deck", "-ssh-config", settings}, args...)...).Cmd
			c.Env = append(c.Env, "HOME="+home, "SSH_AUTH_SOCK=")
			return finish(t, c)
		}
		a := address("-test")
		assert.Equal(t, 0, a.status, a.err)
		assert.Regexp(t, `ssh deck\.domicile +\d`, a.out)
		assert.Contains(t, a.out, "Not from here: ssh -p")
		assert.Contains(t, a.out, "no key is at this machine")
		b, err := os.ReadFile(u.key)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh", "id_ed25519"), b, 0o600))
		a = address()
		assert.Contains(t, a.out, "Not from here", "OpenSSH's client looks below the home folder of the password file")
		// The person's settings name the key.
		b, err = os.ReadFile(u.config)
		require.NoError(t, err)
		settings = filepath.Join(home, "ssh_config")
		parts := strings.SplitAfterN(string(b), "\n", 3) // the usher's two come first, and of the others the first counts
		own := fmt.Sprintf("Host 127.0.0.1\n  ProxyCommand none\n  IdentitiesOnly yes\n  IdentityFile %s\n", filepath.Join(home, ".ssh", "id_ed25519"))
		require.NoError(t, os.WriteFile(settings, []byte(parts[0]+parts[1]+own+parts[2]), 0o600))
		a = address()
		assert.NotContains(t, a.out, "Not from here")
		assert.Contains(t, a.out, "Host key of ")
		// The line that is printed for known_hosts is one that OpenSSH takes.
		lines := strings.Split(strings.TrimSpace(a.out), "\n")
		known := filepath.Join(home, "known")
		require.NoError(t, os.WriteFile(known, []byte(strings.TrimSpace(lines[len(lines)-1])+"\n"), 0o600))
		_, port, _ := strings.Cut(world.Service.SSH, ":")
		strict := []string{"-F", "none", "-i", u.key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=yes", "-o", "UserKnownHostsFile=" + known}
		a = u.at(t, "ssh", append(strict, "-p", port, "deck@127.0.0.1", "hostname")...)
		assert.Equal(t, "deck\n", a.out, a.err)
	})
	t.Run("through the gateway to another one", func(t *testing.T) {
		jump := append([]string{"-o", "ProxyCommand=ssh " + strings.Join(u.sshOptions("-p"), " ") + " -W %h:%p domicile@127.0.0.1"}, u.sshOptions("-p")[:12]...)
		a := u.at(t, "ssh", append(jump, "deck.domicile", "hostname")...)
		assert.Equal(t, "deck\n", a.out, a.err)
		a = finn.ssh(t, "", "-W", "deck.domicile:22", "domicile@127.0.0.1")
		assert.Equal(t, 255, a.status, "another account's is not there")
		assert.Empty(t, a.out)
	})
	t.Run("a helper's ports are here too", func(t *testing.T) {
		a := u.domicile(t, "helper", "deck", "-image", world.RegistryAt+"/skerry/base:12", "-as", "mate")
		require.Equal(t, 0, a.status, a.out+a.err)
		a = u.at(t, "ssh", "-F", u.config, "mate.deck.domicile", "cd /tmp && echo mate > index.html && setsid -f python3 -m http.server --bind 127.0.0.1 9300 >/dev/null 2>&1 </dev/null")
		require.Equal(t, 0, a.status, a.err)
		eventually(t, 10*time.Second, "the helper's port is here", func() bool { return u.gets(t, "deck.mate", "9300") == "mate\n" })
		assert.Regexp(t, `deck\.mate +9300 .* localhost:9300`, u.domicile(t, "ports").out)
		require.Equal(t, 0, u.domicile(t, "remove", "deck.mate", "-yes").status)
		eventually(t, 10*time.Second, "it goes with the helper", func() bool { return u.status(t).Local("deck.mate", "9300") == "" })
	})
	t.Run("an editor is one command", func(t *testing.T) {
		got := filepath.Join(t.TempDir(), "got")
		mine := filepath.Join(t.TempDir(), "editor")
		require.NoError(t, os.WriteFile(mine, []byte("#!/bin/sh\nprintf '%s\\n' \"$@\" > "+got+"\nexit 3\n"), 0o755))
		require.Equal(t, 0, u.domicile(t, "editors", "command", "mine", mine+" --at /ssh:{address}:{path}").status)
		assert.Equal(t, 3, u.domicile(t, "edit", "deck", "a file; $(rm)", "-with", "mine").status)
		b, err := os.ReadFile(got)
		require.NoError(t, err)
		assert.Equal(t, "--at\n/ssh:deck.domicile:/src/deck/a file; $(rm)\n", string(b), "no shell reads what is filled in")
		require.Equal(t, 0, u.domicile(t, "editors", "set", "linked", "x-quay://{user}@{host}:{port}{path}").status)
		list := u.domicile(t, "editors").out
		assert.Regexp(t, `linked +x-quay://\{user\}.* +your account`, list)
		assert.Regexp(t, `mine +.* +this machine`, list)
		editors := *u.workspace(t, "deck").Editors
		assert.Equal(t, "linked", editors[0].Name)
		assert.Regexp(t, `^x-quay://deck@127\.0\.0\.1:\d+/src/deck$`, editors[0].Url)
		assert.Equal(t, 1, u.domicile(t, "edit", "deck", "-with", "nosuch").status)
		for _, bad := range []string{"javascript:alert(1)", "http://elsewhere.test/", "ssh://{secret}@{host}"} {
			assert.Equal(t, 1, u.domicile(t, "editors", "set", "bad", bad).status, bad)
		}
		assert.NotContains(t, finn.domicile(t, "editors").out, "linked", "each account has its own")
		require.Equal(t, 0, u.domicile(t, "editors", "remove", "linked").status)
		assert.Contains(t, u.domicile(t, "editors", "remove", "linked").err, "there is no editor")
	})
	t.Run("the other way round", func(t *testing.T) {
		here, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer here.Close()
		go func() {
			_ = http.Serve(here, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "from the laptop") }))
		}()
		c := u.command(t.Context(), "", "forward", "deck", fmt.Sprint("9300:", here.Addr().(*net.TCPAddr).Port), "-reverse").Cmd
		require.NoError(t, c.Start())
		defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
		eventually(t, 10*time.Second, "it is inside", func() bool {
			return u.at(t, "ssh", "-F", u.config, "deck.domicile", `python3 -c "import urllib.request as u; print(u.urlopen('http://127.0.0.1:9300').read().decode())"`).out == "from the laptop\n"
		})
		assert.Empty(t, u.status(t).Local("deck", "9300"), "it is no program of the workspace's")
	})
	t.Run("a program that listens is at this machine, and gone with it", func(t *testing.T) {
		u.serves(t, 9000)
		eventually(t, 10*time.Second, "the board answers", func() bool { return u.gets(t, "deck", "9000") == "quay\n" })
		local := u.status(t).Local("deck", "9000")
		eventually(t, 10*time.Second, "it is opened in a browser", func() bool {
			b, err := os.ReadFile(u.opened)
			return err == nil && string(b) == "http://"+local+"\n"
		})
		said, err := os.ReadFile(u.said)
		require.NoError(t, err)
		assert.Contains(t, string(said), "deck: Board (port 9000) is at http://"+local)
		var ports client.Ports
		require.NoError(t, json.Unmarshal([]byte(u.domicile(t, "ports", "deck", "-json").out), &ports))
		require.Len(t, ports.Ports, 1)
		p := ports.Ports[0]
		assert.Equal(t, "Board", *p.Label)
		assert.Equal(t, []string{"127.0.0.1"}, p.Listener.Addresses)
		assert.Equal(t, "crew", *p.Listener.User)
		assert.Contains(t, *p.Listener.Command, "python3 -m http.server")
		assert.Contains(t, u.domicile(t, "ports", "deck").out, "http://"+local)

		u.serves(t, 9100)
		eventually(t, 10*time.Second, "it is told of", func() bool { return strings.Contains(u.domicile(t, "ports", "deck").out, "9100") })
		assert.Empty(t, u.status(t).Local("deck", "9100"), "the definition says to ignore it")

		require.Equal(t, 0, u.at(t, "ssh", "-F", u.config, "deck.domicile", "pkill python3").status)
		eventually(t, 10*time.Second, "it is gone", func() bool { return u.status(t).Local("deck", "9000") == "" })
		_, err = http.Get("http://" + local)
		assert.Error(t, err)
	})
	t.Run("after a stop and a start, and after its own end, all is as it was", func(t *testing.T) {
		require.Equal(t, 0, u.domicile(t, "stop", "deck").status)
		a := u.at(t, "ssh", "-F", u.config, "deck.domicile", "true")
		assert.Contains(t, a.err, "The workspace deck is stopped")
		assert.Contains(t, u.domicile(t, "ports", "deck").out, "what listens there is not known: it does not run")
		a = u.domicile(t, "address", "deck", "-ssh-config", u.config)
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.out, "That the workspace runs is not so: it is stopped.\nWhat to do: domicile start deck.")
		require.Equal(t, 0, u.domicile(t, "start", "deck").status)
		u.serves(t, 9000)
		eventually(t, 10*time.Second, "the board answers", func() bool { return u.gets(t, "deck", "9000") == "quay\n" })
		u.end(t, syscall.SIGKILL)
		u.begin(t)
		eventually(t, 10*time.Second, "the board answers", func() bool { return u.gets(t, "deck", "9000") == "quay\n" })
		b, err := os.ReadFile(u.opened)
		require.NoError(t, err)
		assert.Equal(t, 1, strings.Count(string(b), "\n"), "a browser is opened once")
	})
	t.Run("a network that is lost for a while", func(t *testing.T) {
		b.cut(true)
		eventually(t, 20*time.Second, "it is told", func() bool { s := u.status(t); return !s.Connected && s.Reason != "" })
		local := u.status(t).Local("deck", "9000")
		assert.NotEmpty(t, local, "what is open stays open")
		b.cut(false)
		eventually(t, 30*time.Second, "the usher is connected", func() bool { return u.status(t).Connected })
		eventually(t, 20*time.Second, "the board answers", func() bool { return u.gets(t, "deck", "9000") == "quay\n" })
		assert.Equal(t, local, u.status(t).Local("deck", "9000"))
		require.NoError(t, u.usher.Process.Signal(syscall.SIGSTOP))
		require.Equal(t, 0, u.at(t, "ssh", "-F", u.config, "deck.domicile", "pkill python3").status)
		u.serves(t, 9001)
		require.NoError(t, u.usher.Process.Signal(syscall.SIGCONT))
		eventually(t, 20*time.Second, "it has seen what came meanwhile", func() bool { return u.gets(t, "deck", "9001") == "quay\n" && u.status(t).Local("deck", "9000") == "" })
	})
	t.Run("there is one, and what it does is its own account's", func(t *testing.T) {
		a := u.domicile(t, "usher", "-ssh-config", u.config)
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, "an usher is at work for this account already")
		assert.Contains(t, u.domicile(t, "usher", "-uninstall", "-ssh-config", u.config).err, "end it first")
		for _, path := range []string{"/api/v1/workspaces/deck/ports", "/api/v1/workspaces/deck/ssh"} {
			status, _ := finn.request(t, http.MethodGet, path, "")
			assert.Equal(t, http.StatusNotFound, status, path)
		}
		info, err := os.Stat(u.login + "-usher")
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	})
	t.Run("systemd keeps it at work", func(t *testing.T) {
		home, bin := t.TempDir(), t.TempDir()
		calls := filepath.Join(home, "calls")
		call := func(args ...string) answer {
			c := u.command(t.Context(), "", append([]string{"usher", "-ssh-config", u.config}, args...)...).Cmd
			c.Env = append(c.Env, "XDG_CONFIG_HOME="+home, "HOME="+home, "PATH="+bin)
			return finish(t, c)
		}
		unit := filepath.Join(home, "systemd", "user", "domicile-usher.service")
		a := call("-install")
		assert.Contains(t, a.err, "the user's systemd does not take the usher")
		assert.Contains(t, a.err, "run domicile usher in a terminal")
		assert.NoFileExists(t, unit)
		require.NoError(t, os.WriteFile(filepath.Join(bin, "systemctl"), []byte("#!/bin/sh\necho \"$*\" >> "+calls+"\n"), 0o755))
		a = call("-install")
		require.Equal(t, 0, a.status, a.err)
		b, err := os.ReadFile(unit)
		require.NoError(t, err)
		assert.Contains(t, string(b), "Environment=\"DOMICILE_LOGIN_FILE="+u.login+"\"\n")
		assert.Contains(t, string(b), "usher -suffix \"domicile\" -ssh-config \""+u.config+"\"\n")
		u.end(t, syscall.SIGINT)
		a = call("-uninstall")
		require.Equal(t, 0, a.status, a.err)
		assert.NoFileExists(t, unit)
		b, err = os.ReadFile(calls)
		require.NoError(t, err)
		assert.Equal(t, "--user daemon-reload\n--user enable --now domicile-usher.service\n--user disable --now domicile-usher.service\n--user daemon-reload\n", string(b))
		u.begin(t)
	})
	t.Run("it goes without a trace", func(t *testing.T) {
		u.end(t, syscall.SIGINT)
		a := u.domicile(t, "usher", "-uninstall", "-ssh-config", u.config)
		require.Equal(t, 0, a.status, a.err)
		b, err := os.ReadFile(u.config)
		require.NoError(t, err)
		assert.Equal(t, own, string(b))
		assert.NoDirExists(t, u.login+"-usher")
		u.begin(t) // for the clean-up
	})
}
