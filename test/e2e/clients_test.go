package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/daemons"
)

// brief runs an OpenSSH program that must end by itself within a while.
func (p *person) brief(t *testing.T, limit time.Duration, stdin, program string, args ...string) answer {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	defer cancel()
	port := map[string]string{"ssh": "-p", "scp": "-P", "sftp": "-P"}[program]
	own := p.sshOptions(port)
	if slices.Contains(args, "-N") || slices.Contains(args, "LogLevel=DEBUG") {
		own = slices.DeleteFunc(own, func(o string) bool { return o == "LogLevel=ERROR" }) // with its "-o" left
		own = slices.Delete(own, len(own)-3, len(own)-2)
	}
	c := exec.CommandContext(ctx, program, append(own, args...)...)
	c.Dir, c.WaitDelay = t.TempDir(), time.Second
	if stdin != "" {
		c.Stdin = strings.NewReader(stdin)
	}
	a := finish(t, c)
	require.NoError(t, ctx.Err(), "%s %v did not end within %s: %s", program, args, limit, a.err)
	return a
}

// What OpenSSH's own programs find elsewhere, they find here.
func TestWhatOpenSSHExpects(t *testing.T) {
	const at = "skipper-clients@127.0.0.1"
	source := publish(t, "clients", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "skipper-clients").status)
	inside := func(line string) string { return skipper.inside(t, "skipper-clients", line) }
	folder := t.TempDir()
	cargo := filepath.Join(folder, "cargo")
	require.NoError(t, os.WriteFile(cargo, []byte("barrels"), 0o600))

	t.Run("paths", func(t *testing.T) {
		for name, args := range map[string][]string{"~/tilde": {cargo, at + ":~/tilde"}, "~/plain": {cargo, at + ":plain"}, "~/old-tilde": {"-O", cargo, at + ":~/old-tilde"}, "~/old-plain": {"-O", cargo, at + ":old-plain"}, "/tmp/whole": {cargo, at + ":/tmp/whole"}} {
			a := skipper.brief(t, 20*time.Second, "", "scp", args...)
			require.Equal(t, 0, a.status, a.err)
			assert.Equal(t, "barrels", inside("cat "+name), name)
		}
		assert.Equal(t, "/workspaces/clients", inside("pwd"), "a shell starts in the workspace's folder")
	})
	t.Run("sftp", func(t *testing.T) {
		batch := filepath.Join(folder, "batch")
		require.NoError(t, os.WriteFile(batch, []byte("ln -s ../far/away relative\nln -s /far/away whole\nln plain hard\nput -f "+cargo+" synced\nls -l relative\ndf .\nlchdir /\n"), 0o600))
		a := skipper.brief(t, 20*time.Second, "", "sftp", "-b", batch, at)
		require.Equal(t, 0, a.status, a.err)
		assert.Equal(t, "../far/away /far/away 2 barrels", inside("cd; echo $(readlink relative whole; stat -c %h hard; cat synced)"))
		told := skipper.brief(t, 20*time.Second, "bye\n", "sftp", "-vv", "-b", "-", at).err
		for _, extension := range []string{"fsync@openssh.com", "limits@openssh.com", "expand-path@openssh.com", "lsetstat@openssh.com", "posix-rename@openssh.com"} {
			assert.Contains(t, told, `"`+extension+`"`)
		}
		a = skipper.brief(t, 20*time.Second, "", "scp", "-p", at+":~crew/plain", filepath.Join(folder, "back"))
		assert.Equal(t, 0, a.status, a.err)
	})
	t.Run("ends", func(t *testing.T) {
		_, port, _ := net.SplitHostPort(world.Service.SSH)
		line := "ssh " + strings.Join(skipper.sshOptions("-p")[:len(skipper.sshOptions("-p"))-1], " ") + " " + port + " " + at
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		out, err := exec.CommandContext(ctx, "sh", "-c", line+" yes | head -1").Output()
		require.NoError(t, err, "what nobody reads any more ends")
		assert.Equal(t, "y\n", string(out))
		a := skipper.brief(t, 20*time.Second, "sleep 345 &\nexit 4\n", "ssh", "-tt", at)
		assert.Equal(t, 4, a.status, "a job in the background keeps nobody")
		assert.NotEmpty(t, inside("pgrep -x sleep"), "and goes on")
		assert.Equal(t, "", inside("pkill -x sleep; pgrep -x yes || true"))
		for range 30 {
			assert.Equal(t, 7, skipper.brief(t, 20*time.Second, "", "ssh", at, "exit 7").status)
		}
	})
	t.Run("terminals", func(t *testing.T) {
		// One waits to be come back to: a person is told, an editor is not.
		left := exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), "-tt", "-o", "SetEnv=DOMICILE_TERMINAL=deck", at)...)
		in, err := left.StdinPipe()
		require.NoError(t, err)
		require.NoError(t, left.Start())
		_, err = in.Write([]byte("sleep 234\n"))
		require.NoError(t, err)
		eventually(t, 10*time.Second, "it runs", func() bool { return inside("pgrep -x sleep || true") != "" })
		require.NoError(t, left.Process.Kill())
		_ = left.Wait()
		ask := func(term string, more ...string) string {
			c := exec.CommandContext(t.Context(), "ssh", append(append(skipper.sshOptions("-p"), "-tt"), append(more, at)...)...)
			c.Env = append(os.Environ(), "TERM="+term)
			c.Stdin = strings.NewReader("exit\n")
			a := finish(t, c)
			assert.Empty(t, a.err, "it is told on the terminal itself")
			return a.out
		}
		eventually(t, 10*time.Second, "the person is told of it", func() bool { return strings.Contains(ask("xterm"), "Terminal deck still runs sleep 234") })
		said := ask("xterm")
		assert.True(t, strings.HasPrefix(said, "Terminal deck"), "before the prompt: %q", said)
		assert.NotContains(t, ask("dumb"), "still runs")
		assert.NotContains(t, ask("xterm", "-o", "SetEnv=PS1=ready>"), "still runs")
		// A command with a terminal is come back to as well.
		command := append(append(skipper.sshOptions("-p"), "-tt", "-o", "SetEnv=DOMICILE_TERMINAL=count"), at, "echo begun; read x; echo got $x")
		first := exec.CommandContext(t.Context(), "ssh", command...)
		hold, err := first.StdinPipe()
		require.NoError(t, err)
		defer hold.Close()
		require.NoError(t, first.Start())
		eventually(t, 10*time.Second, "it waits", func() bool {
			return strings.Contains(skipper.domicile(t, "show", "skipper-clients").out+inside("pgrep -af 'read x' || true"), "read x")
		})
		require.NoError(t, first.Process.Kill())
		_ = first.Wait()
		second := exec.CommandContext(t.Context(), "ssh", command...)
		second.Stdin = strings.NewReader("oars\n")
		a := finish(t, second)
		assert.Equal(t, 1, strings.Count(a.out, "begun"))
		assert.Contains(t, a.out, "got oars")
	})
	t.Run("what programs see", func(t *testing.T) {
		a := skipper.brief(t, 20*time.Second, "", "ssh", at, "echo $SSH_CONNECTION; echo $SSH_CLIENT")
		_, port, _ := net.SplitHostPort(world.Service.SSH)
		assert.Regexp(t, `^127\.0\.0\.1 \d+ 127\.0\.0\.1 `+port+"\n127\\.0\\.0\\.1 \\d+ "+port+"\n$", a.out)
	})
	t.Run("algorithms", func(t *testing.T) {
		for _, cipher := range []string{"chacha20-poly1305@openssh.com", "aes128-ctr", "aes192-ctr", "aes256-ctr", "aes128-gcm@openssh.com", "aes256-gcm@openssh.com"} {
			a := skipper.brief(t, 20*time.Second, "", "ssh", "-c", cipher, at, "echo here")
			assert.Equal(t, "here\n", a.out, "%s: %s", cipher, a.err)
		}
		told := skipper.brief(t, 20*time.Second, "", "ssh", "-v", "-o", "LogLevel=DEBUG", at, "true").err
		assert.Contains(t, told, "cipher: aes128-gcm@openssh.com")
		for _, old := range [][]string{{"-o", "KexAlgorithms=diffie-hellman-group14-sha1"}, {"-o", "KexAlgorithms=diffie-hellman-group1-sha1"}} {
			assert.Contains(t, skipper.brief(t, 20*time.Second, "", "ssh", append(append(old, "-o", "LogLevel=DEBUG"), at, "true")...).err, "no matching key exchange method")
		}
	})
	t.Run("the other loopback", func(t *testing.T) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = conn.Write([]byte("from home\n"))
				conn.Close()
			}
		}()
		for _, address := range []string{"[::1]", "127.0.0.1", "localhost"} {
			to := map[string]string{"[::1]": "::1", "127.0.0.1": "127.0.0.1", "localhost": "::1"}[address]
			a := skipper.brief(t, 20*time.Second, "", "ssh", "-o", "ExitOnForwardFailure=yes", "-R", address+":7077:"+l.Addr().String(), at, "python3 -c \"import socket; print(socket.create_connection(('"+to+"', 7077), 5).recv(9).decode())\"")
			assert.Equal(t, "from home\n", a.out, "%s: %s", address, a.err)
		}
	})
	t.Run("refusals", func(t *testing.T) {
		a := skipper.brief(t, 8*time.Second, "", "ssh", "-N", "nowhere@127.0.0.1")
		assert.Equal(t, 255, a.status)
		assert.Contains(t, a.err, `You have no workspace "nowhere"`)
		a = skipper.brief(t, 8*time.Second, "", "ssh", "-N", "skipper-clients.store@127.0.0.1")
		assert.Contains(t, a.err, "domicile forward skipper-clients store:PORT")
		key := filepath.Join(folder, "strange")
		out, err := exec.CommandContext(t.Context(), "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput()
		require.NoError(t, err, "%s", out)
		_, port, _ := net.SplitHostPort(world.Service.SSH)
		strange := finish(t, exec.CommandContext(t.Context(), "ssh", "-F", "none", "-b", "127.0.0.3", "-i", key, "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-p", port, at))
		assert.Regexp(t, `The key SHA256:\S+ is not known here\. To add it: domicile keys add`, strange.err)
		require.Equal(t, 0, skipper.domicile(t, "stop", "skipper-clients").status)
		free, err := daemons.FreePort(0)
		require.NoError(t, err)
		for _, way := range [][]string{{"-N"}, {"-N", "-L", fmt.Sprintf("127.0.0.1:%d:127.0.0.1:80", free)}} {
			a := skipper.brief(t, 8*time.Second, "", "ssh", append(way, at)...)
			assert.Equal(t, 255, a.status)
			assert.Contains(t, a.err, "The workspace skipper-clients is stopped. To start it: domicile start skipper-clients")
		}
		a = skipper.brief(t, 8*time.Second, "", "ssh", at, "true")
		assert.Equal(t, 1, strings.Count(a.err, "is stopped"), "it is told once: %s", a.err)
		assert.Equal(t, 255, a.status)
	})
}
