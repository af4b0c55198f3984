package e2e

import (
	"bufio"
	"bytes"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// residentMB is the memory of a process, in MB.
func residentMB(t *testing.T, pid int) int {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(t, err)
	for line := range strings.Lines(string(b)) {
		if rest, found := strings.CutPrefix(line, "VmRSS:"); found {
			kB, err := strconv.Atoi(strings.Fields(rest)[0])
			require.NoError(t, err)
			return kB / 1024
		}
	}
	t.Fatal("no VmRSS")
	return 0
}

// descriptors is how many files a process has open.
func descriptors(t *testing.T, pid int) int {
	t.Helper()
	list, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	require.NoError(t, err)
	return len(list)
}

// answersSSH reports whether an SSH server greets at an address.
func answersSSH(at string) bool {
	conn, err := net.DialTimeout("tcp", at, 2*time.Second)
	if err != nil {
		return false
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(2 * time.Second))
	line, _ := bufio.NewReader(conn).ReadString('\n')
	return strings.HasPrefix(line, "SSH-2.0-")
}

// flood is how much strangers send.
type flood struct {
	files  int // descriptors that the service may have
	bodies int // that do not come to an end
	names  int // of 900 kB each
	spare  int // MB that the service may take beyond what it took before
}

// Strangers who send half of what they announced, or long names, or nothing, neither end the service nor fill its
// memory, and what they held is given back.
func TestFloods(t *testing.T) { flood{files: 300, bodies: 400, names: 80, spare: 250}.comes(t) }

// The same in large: scripts/test floods.
func TestLargeFloods(t *testing.T) {
	flood{files: 4096, bodies: 8000, names: 1000, spare: 300}.comes(t)
}

func (f flood) comes(t *testing.T) {
	o := newOwn(t)
	program := filepath.Join(t.TempDir(), "few")
	require.NoError(t, os.WriteFile(program, fmt.Appendf(nil, "#!/bin/bash\nulimit -n %d\nexec %s \"$@\"\n", f.files, filepath.Join(programs, "domicile")), 0o755))
	o.program = program
	o.start(t)
	mate := o.mate(t)
	pid := o.running.Process.Pid
	memory, files := residentMB(t, pid), descriptors(t, pid)

	t.Run("bodies that do not come", func(t *testing.T) {
		var open []net.Conn
		for range f.bodies {
			conn, err := net.DialTimeout("tcp", o.web, time.Second)
			if err != nil {
				break
			}
			open = append(open, conn)
			_, _ = fmt.Fprintf(conn, "POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 100000\r\n\r\n{", o.web)
		}
		assert.True(t, answersSSH(o.ssh), "SSH is served meanwhile")
		assert.True(t, o.ready(), "and so is the console")
		assert.Equal(t, 0, mate.domicile(t, "list").status, "and who has an account")
		for _, conn := range open {
			conn.Close()
		}
		assert.Eventually(t, func() bool { return descriptors(t, pid) <= files+20 }, 30*time.Second, 50*time.Millisecond, "descriptors are given back")
		assert.True(t, answersSSH(o.ssh))
	})
	t.Run("SSH connections that say nothing", func(t *testing.T) {
		for address := range 8 {
			for range 32 {
				d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 3, byte(address+1))}, Timeout: time.Second}
				if conn, err := d.DialContext(t.Context(), "tcp", o.ssh); err == nil {
					defer conn.Close()
				}
			}
		}
		assert.Eventually(t, func() bool { return answersSSH(o.ssh) }, 10*time.Second, 100*time.Millisecond, "somebody else comes in")
	})
	t.Run("long names", func(t *testing.T) {
		name := strings.Repeat("x", 900_000)
		for i := range f.names {
			r, err := http.Post("http://"+o.web+"/api/v1/session", "application/json", strings.NewReader(fmt.Sprintf(`{"name": "%d%s", "password": "wrong-wrong"}`, i, name)))
			require.NoError(t, err)
			r.Body.Close()
		}
		assert.Less(t, residentMB(t, pid), memory+f.spare, "what was typed is not kept")
	})
	t.Logf("memory: %d MB before, %d MB after", memory, residentMB(t, pid))
}

// A stop tells all programs, gives them the time that the definition says, and names those that do not end. What is
// new in a volume is the person's, and a program is reached wherever it listens.
func TestInsideAWorkspace(t *testing.T) {
	source := publish(t, "berth", `{ "image": "BASE", "remoteUser": "crew", "mounts": ["type=volume,source=hold,target=/hold/deep"],
		"customizations": { "domicile": { "stopGrace": "3s" } } }`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "berth").status)

	t.Run("a new volume is the person's", func(t *testing.T) {
		assert.Equal(t, "crew\n", skipper.inside(t, "berth", "touch /hold/deep/x && stat -c %U /hold/deep")+"\n")
	})
	t.Run("a program that listens elsewhere is reached", func(t *testing.T) {
		for port, bind := range map[string]string{"9331": "127.0.1.1", "9332": "$(hostname -i)"} {
			skipper.inside(t, "berth", "cd /tmp && setsid -f python3 -m http.server --bind "+bind+" "+port+" >/dev/null 2>&1 </dev/null")
			eventually(t, 20*time.Second, "a program at "+bind+" is reached", func() bool {
				a := skipper.ssh(t, "HEAD / HTTP/1.0\r\n\r\n", "-W", "127.0.0.1:"+port, "berth@127.0.0.1")
				return strings.HasPrefix(a.out, "HTTP/1.0 200")
			})
		}
	})
	t.Run("a stop tells all programs", func(t *testing.T) {
		skipper.inside(t, "berth", `cat >/tmp/told.sh <<'END'
trap 'sleep 1; echo told >>/workspaces/berth/told; exit 0' TERM
while :; do sleep 0.1; done
END
cat >/tmp/stubborn.sh <<'END'
trap '' TERM HUP
while :; do sleep 0.1; done
END
setsid -f sh /tmp/told.sh </dev/null >/dev/null 2>&1
setsid -f sh /tmp/stubborn.sh </dev/null >/dev/null 2>&1
sleep 0.5`)
		begun := time.Now()
		require.Equal(t, 0, skipper.domicile(t, "stop", "berth").status)
		assert.Greater(t, time.Since(begun), 3*time.Second, "the stubborn one has its time")
		assert.Contains(t, skipper.domicile(t, "log", "berth").out, "did not end within 3s of SIGTERM, and is killed: ")
		assert.Contains(t, skipper.domicile(t, "log", "berth").out, "sh /tmp/stubborn.sh")
		require.Equal(t, 0, skipper.domicile(t, "start", "berth").status)
		assert.Equal(t, "told", strings.TrimSpace(skipper.inside(t, "berth", "cat /workspaces/berth/told")))
	})
	t.Run("who comes back is shown the screen, and gets its size back", func(t *testing.T) {
		a := skipper.ssh(t, "", "-o", "SetEnv=DOMICILE_TERMINAL=a\nb", "-tt", "berth@127.0.0.1")
		assert.Contains(t, a.out+a.err, "cannot be a terminal's name")
	})
	t.Run("what was opened with a credential ends with it", func(t *testing.T) {
		key := filepath.Join(t.TempDir(), "key")
		require.NoError(t, exec.CommandContext(t.Context(), "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).Run())
		require.Equal(t, 0, skipper.domicile(t, "keys", "add", key+".pub").status)
		id := ""
		for line := range strings.Lines(skipper.domicile(t, "keys").out) {
			if fields := strings.Fields(line); len(fields) > 0 {
				id = fields[0] // the newest is the last
			}
		}
		_, port, _ := net.SplitHostPort(world.Service.SSH)
		c := exec.CommandContext(t.Context(), "ssh", "-F", "none", "-i", key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-p", port, "berth@127.0.0.1", "echo in; sleep 1000")
		c.Env = append(os.Environ(), "SSH_AUTH_SOCK=")
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		line, err := bufio.NewReader(out).ReadString('\n')
		require.NoError(t, err)
		require.Equal(t, "in\n", line)
		token := skipper.domicile(t, "tokens", "add", "passing")
		require.Equal(t, 0, token.status, token.err)
		var withToken *exec.Cmd
		var said bytes.Buffer
		for word := range strings.FieldsSeq(token.out) {
			if len(word) > 30 {
				withToken = skipper.command(t.Context(), "", "run", "berth", "--", "sh", "-c", "echo in; sleep 1000").Cmd
				withToken.Env = append(withToken.Env, "DOMICILE_TOKEN="+word)
			}
		}
		require.NotNil(t, withToken, token.out)
		withToken.Stdout = &said
		require.NoError(t, withToken.Start())
		ended := make(chan string, 2)
		go func() { _ = c.Wait(); ended <- "key" }()
		go func() { _ = withToken.Wait(); ended <- "token" }()
		eventually(t, 20*time.Second, "both are in", func() bool { return strings.Contains(said.String(), "in") })

		removed := skipper.domicile(t, "keys", "remove", id)
		require.Equal(t, 0, removed.status, removed.err)
		id = ""
		for line := range strings.Lines(skipper.domicile(t, "tokens").out) {
			if fields := strings.Fields(line); strings.Contains(line, "passing") {
				id = fields[0]
			}
		}
		require.Equal(t, 0, skipper.domicile(t, "tokens", "remove", id).status)
		for range 2 {
			select {
			case <-ended:
			case <-time.After(30 * time.Second):
				t.Fatal("it goes on")
			}
		}
	})
}
