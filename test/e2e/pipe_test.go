package e2e

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bridge leads to the service, and can be taken away.
type bridge struct {
	listener net.Listener
	mu       sync.Mutex
	over     []net.Conn
	away     bool
}

func newBridge(t *testing.T) *bridge {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	b := &bridge{listener: l}
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			b.mu.Lock()
			far, err := net.Dial("tcp", strings.TrimPrefix(world.Service.URL, "http://"))
			if b.away || err != nil {
				near.Close()
				if far != nil {
					far.Close()
				}
				b.mu.Unlock()
				continue
			}
			b.over = append(b.over, near, far)
			b.mu.Unlock()
			go func() { _, _ = io.Copy(far, near); far.Close() }()
			go func() { _, _ = io.Copy(near, far); near.Close() }()
		}
	}()
	return b
}

// cut ends all that goes over the bridge; away keeps it so.
func (b *bridge) cut(away bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.away = away
	for _, c := range b.over {
		c.Close()
	}
	b.over = nil
}

// shake cuts the bridge again and again, and takes it away for a while, until something has ended; it
// tells how often.
func (b *bridge) shake(t *testing.T, ended <-chan struct{}) (broken int) {
	t.Helper()
	cuts := time.NewTicker(700 * time.Millisecond)
	defer cuts.Stop()
	limit := time.After(5 * time.Minute) // beside all the others
	for {
		select {
		case <-ended:
			return broken
		case <-cuts.C:
			broken++
			b.cut(3 <= broken && broken < 6)
		case <-limit:
			t.Fatal("it does not end")
		}
	}
}

// Through a pipe ssh does not notice that the connection breaks, again and again, and is away for
// seconds: no byte is lost, in neither direction.
func TestAPipeThatBreaks(t *testing.T) {
	t.Parallel()
	source := publish(t, "pipedeck", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	a := skipper.provision(t, source, "pipedeck")
	require.Equal(t, 0, a.status, a.err)
	b := newBridge(t)
	login := filepath.Join(t.TempDir(), "login.json")
	require.NoError(t, os.WriteFile(login, fmt.Appendf(nil, `{"server": "http://%s", "token": %q}`, b.listener.Addr(), skipper.token), 0o600))
	ssh := func(in io.Reader, line string) (*exec.Cmd, *strings.Builder) {
		c := exec.CommandContext(t.Context(), "ssh", "-F", "none", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR",
			"-o", "ProxyCommand="+filepath.Join(programs, "domicile")+" pipe -login "+login+" %n", "pipedeck.domicile", line)
		var out strings.Builder
		c.Stdin, c.Stdout, c.Stderr = in, &out, &out
		return c, &out
	}
	cargo := make([]byte, 48<<20)
	_, _ = rand.Read(cargo)
	sum := sha256.Sum256(cargo)
	up, upSaid := ssh(strings.NewReader(string(cargo)), "sha256sum")
	ticks, ticksSaid := ssh(nil, "for i in $(seq 300); do echo line $i; sleep 0.04; done; exit 5")
	require.NoError(t, up.Start())
	require.NoError(t, ticks.Start())
	// What breaks before it stands is told at once, and is not what is tried here.
	eventually(t, 30*time.Second, "both are in", func() bool {
		said := skipper.inside(t, "pipedeck", "pgrep -fa 'sha256su[m]|seq 30[0]' || true")
		return strings.Contains(said, "sha256sum") && strings.Contains(said, "seq 300")
	})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = up.Wait()
		_ = ticks.Wait()
	}()
	broken := b.shake(t, ended)
	assert.Equal(t, hex.EncodeToString(sum[:])+"  -\n", upSaid.String())
	var want strings.Builder
	for i := range 300 {
		fmt.Fprintf(&want, "line %d\n", i+1)
	}
	assert.Equal(t, want.String(), ticksSaid.String())
	assert.Equal(t, 5, ticks.ProcessState.ExitCode())
	assert.Greater(t, broken, 3)

	t.Run("a stream is its owner's", func(t *testing.T) {
		id := strings.Repeat("0a", 16)
		for path, want := range map[string]int{"?stream=" + id + "&again=true": http.StatusNotFound, "?stream=../x": http.StatusBadRequest, "?stream=" + strings.ToUpper(id): http.StatusBadRequest} {
			status, _ := skipper.request(t, http.MethodGet, "/api/v1/workspaces/pipedeck/ssh"+path, "")
			assert.Equal(t, want, status, path)
		}
		status, _ := finn.request(t, http.MethodGet, "/api/v1/workspaces/pipedeck/ssh?stream="+id, "")
		assert.Equal(t, http.StatusNotFound, status)
	})
	t.Run("a workspace that stops, and one that there is not, end it at once", func(t *testing.T) {
		waits, said := ssh(nil, "sleep 100")
		require.NoError(t, waits.Start())
		eventually(t, 10*time.Second, "it is in", func() bool {
			return strings.Contains(skipper.inside(t, "pipedeck", "pgrep -fa 'sleep 10[0]' || true"), "sleep")
		})
		require.Equal(t, 0, skipper.domicile(t, "stop", "pipedeck").status)
		_ = waits.Wait()
		assert.NotEqual(t, 0, waits.ProcessState.ExitCode(), said.String())
	})
}
