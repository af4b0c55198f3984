package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// proc lays out processes as /proc does.
func proc(t *testing.T, processes map[int][2]string) string {
	t.Helper()
	folder := t.TempDir()
	for pid, files := range processes {
		at := filepath.Join(folder, fmt.Sprint(pid))
		require.NoError(t, os.Mkdir(at, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(at, "stat"), []byte(files[0]), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(at, "environ"), []byte(files[1]), 0o600))
	}
	require.NoError(t, os.Mkdir(filepath.Join(folder, "sys"), 0o755))
	return folder
}

func TestProcessorTimeOfAllButTheAgent(t *testing.T) {
	stat := func(name string) string {
		return "7 (" + name + ") S 1 7 7 0 -1 4194560 100 0 0 0 10 20 3 4 20 0 1 0 100 0 0"
	}
	assert.EqualValues(t, 37, ticks(proc(t, map[int][2]string{999999: {stat("sh"), ""}, os.Getpid(): {stat("agent"), ""}})))
	assert.EqualValues(t, 74, ticks(proc(t, map[int][2]string{999998: {stat("a) 1 (b"), ""}, 999999: {stat(""), ""}})), "a name may hold anything")
	assert.Zero(t, ticks(proc(t, map[int][2]string{999999: {"nonsense", ""}})))
	assert.Zero(t, ticks("/nowhere"))
}

func TestMarkedProcesses(t *testing.T) {
	for environ, want := range map[string]bool{
		"DOMICILE_BUSY=1\x00A=b\x00": true, "A=b\x00DOMICILE_BUSY=1\x00": true, "A=b\x00DOMICILE_BUSY=0\x00": false, "NOT_DOMICILE_BUSY=1\x00": false, "X=DOMICILE_BUSY=1\x00": false, "DOMICILE_BUSY=12\x00": false, "": false,
	} {
		assert.Equal(t, want, marked(proc(t, map[int][2]string{999999: {"", environ}})) != "", "%q", environ)
	}
}

// silent is a channel that takes and gives bytes.
type silent struct{ ssh.Channel }

func (silent) Write(p []byte) (int, error) { return len(p), nil }
func (silent) Read(p []byte) (int, error)  { return len(p), nil }

// What goes through a person's channel is a use; what the service tells the terminals is not.
func TestUse(t *testing.T) {
	var u use
	c := u.counted(silent{})
	for name, x := range map[string]struct {
		quiet time.Duration
		act   func([]byte) (int, error)
		used  bool
	}{"typed": {0, c.Read, true}, "printed": {-time.Second, c.Write, true}, "told": {time.Minute, c.Write, false}, "typed while told": {time.Minute, c.Read, true}} {
		u.last.Store(1)
		u.quiet.Store(time.Now().Add(x.quiet).UnixNano())
		_, err := x.act(make([]byte, 8))
		require.NoError(t, err)
		assert.Equal(t, x.used, u.last.Load() != 1, name)
	}
}
