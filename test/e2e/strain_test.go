package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// inDescriptors is how many files and connections an usher has open.
func (u *ushered) inDescriptors(t *testing.T) int {
	t.Helper()
	list, err := os.ReadDir(fmt.Sprintf("/proc/%d/fd", u.usher.Process.Pid))
	require.NoError(t, err)
	return len(list)
}

// here is how many ports of a workspace are at this machine.
func (u *ushered) here(t *testing.T) (n int) {
	t.Helper()
	for _, p := range u.status(t).Places {
		for _, x := range p.Ports {
			if x.Local != "" {
				n++
			}
		}
	}
	return n
}

// Five hundred ports at once, one that flaps a hundred times a second, two ushers, and one that is held
// for a while: all comes back by itself, and nothing is left behind.
func TestAnUsherUnderStrain(t *testing.T) {
	t.Parallel()
	u := &ushered{person: anotherPerson(t, "stoker"), config: filepath.Join(t.TempDir(), "config"), said: filepath.Join(t.TempDir(), "said"), opened: filepath.Join(t.TempDir(), "opened")}
	a := u.provision(t, publish(t, "boiler", `{"image": "BASE", "remoteUser": "crew"}`, nil), "boiler")
	require.Equal(t, 0, a.status, a.err)
	u.begin(t)
	t.Cleanup(func() { u.end(t, syscall.SIGKILL) })
	runs := func(program string) {
		t.Helper()
		a := u.domicile(t, "run", "boiler", "--", "sh", "-c", "cat > /tmp/p.py <<'END'\n"+program+"\nEND\nsetsid -f python3 /tmp/p.py >/dev/null 2>&1 </dev/null")
		require.Equal(t, 0, a.status, a.err)
	}
	eventually(t, 20*time.Second, "its workspace is known", func() bool { s := u.status(t); return len(s.Places) == 1 && s.Places[0].Heard })
	before := u.inDescriptors(t)

	t.Run("five hundred ports", func(t *testing.T) {
		runs("import socket, time\nl = [socket.create_server(('127.0.0.1', 21000 + i)) for i in range(500)]\ntime.sleep(600)")
		eventually(t, 30*time.Second, "all of them are here", func() bool { return u.here(t) == 500 })
		u.domicile(t, "run", "boiler", "--", "pkill", "-f", "/tmp/p.py")
		eventually(t, 30*time.Second, "all of them are gone", func() bool { return u.here(t) == 0 })
		eventually(t, 10*time.Second, "and what they took", func() bool { return u.inDescriptors(t) <= before+5 })
	})
	t.Run("a port that flaps", func(t *testing.T) {
		runs("import socket, time\nend = time.time() + 5\nwhile time.time() < end:\n    s = socket.create_server(('127.0.0.1', 22000)); time.sleep(0.005); s.close(); time.sleep(0.005)\n" +
			"s = socket.create_server(('127.0.0.1', 22000))\nwhile True: c = s.accept()[0]; c.sendall(b'steady'); c.close()")
		eventually(t, 30*time.Second, "it is here when it stays", func() bool {
			local := u.status(t).Local("boiler", "22000")
			return local != "" && dialled(local) == "steady"
		})
		assert.Less(t, strings.Count(read(t, u.said), "port 22000"), 10, "it is not told each time")
	})
	t.Run("an usher that is held", func(t *testing.T) {
		require.NoError(t, u.usher.Process.Signal(syscall.SIGSTOP))
		u.domicile(t, "run", "boiler", "--", "pkill", "-f", "/tmp/p.py")
		runs("import socket, time\ns = socket.create_server(('127.0.0.1', 23000)); time.sleep(600)")
		eventually(t, 20*time.Second, "another program listens meanwhile", func() bool {
			return strings.Contains(u.domicile(t, "ports", "boiler").out, "23000 ")
		})
		require.NoError(t, u.usher.Process.Signal(syscall.SIGCONT))
		eventually(t, 30*time.Second, "it has seen what happened", func() bool {
			s := u.status(t)
			return s.Local("boiler", "23000") != "" && s.Local("boiler", "22000") == "" && s.Places[0].Heard
		})
	})
	t.Run("one at another machine", func(t *testing.T) {
		other := &ushered{person: &person{name: u.name, token: u.token, api: u.api, login: filepath.Join(t.TempDir(), "login")}, config: filepath.Join(t.TempDir(), "config"), said: filepath.Join(t.TempDir(), "said"), opened: u.opened}
		require.NoError(t, os.WriteFile(other.login, fmt.Appendf(nil, `{"server": %q, "token": %q}`, world.Service.URL, u.token), 0o600))
		other.begin(t)
		eventually(t, 20*time.Second, "both have the port", func() bool {
			return other.status(t).Local("boiler", "23000") != "" && u.status(t).Local("boiler", "23000") != ""
		})
		assert.NotEqual(t, other.status(t).Local("boiler", "23000"), u.status(t).Local("boiler", "23000"))
		require.Equal(t, 0, other.domicile(t, "usher", "allow", "boiler", "tell").status)
		require.Equal(t, 0, u.domicile(t, "usher", "allow", "boiler", "tell").status)
		eventually(t, 10*time.Second, "the one that came last hears", func() bool {
			u.domicile(t, "run", "boiler", "--", "usher", "tell", "steam is up")
			return strings.Contains(read(t, other.said), "steam is up")
		})
		other.end(t, syscall.SIGTERM)
		eventually(t, 10*time.Second, "and then the other one", func() bool {
			u.domicile(t, "run", "boiler", "--", "usher", "tell", "steam is down")
			return strings.Contains(read(t, u.said), "steam is down")
		})
	})
}

// dialled is what somebody at an address says; empty: nobody.
func dialled(at string) string {
	c, err := net.DialTimeout("tcp", at, 5*time.Second)
	if err != nil {
		return ""
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(5 * time.Second))
	b, _ := io.ReadAll(c)
	return string(b)
}
