package beneath

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who can write to the folder puts links of every kind there; none leads to another socket.
func TestNothingIsFollowed(t *testing.T) {
	host := t.TempDir()
	prize := filepath.Join(host, "prize.sock")
	l, err := net.Listen("unix", prize)
	require.NoError(t, err)
	defer l.Close()
	for name, plant := range map[string]func(folder string) (dialled string, err error){
		"a link":             func(f string) (string, error) { return "s", os.Symlink(prize, filepath.Join(f, "s")) },
		"a link to a folder": func(f string) (string, error) { return "d/prize.sock", os.Symlink(host, filepath.Join(f, "d")) },
		"a way up":           func(f string) (string, error) { return "../" + filepath.Base(host) + "/prize.sock", nil },
		"an absolute path":   func(string) (string, error) { return prize, nil },
		"the process's own":  func(f string) (string, error) { return "p", os.Symlink("/proc/self/root"+prize, filepath.Join(f, "p")) },
		"a plain file":       func(f string) (string, error) { return "f", os.WriteFile(filepath.Join(f, "f"), nil, 0o600) },
		"a folder":           func(f string) (string, error) { return "o", os.Mkdir(filepath.Join(f, "o"), 0o700) },
	} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			dialled, err := plant(folder)
			require.NoError(t, err)
			_, err = Dial(t.Context(), folder, dialled)
			assert.ErrorIs(t, err, ErrReplaced)
		})
	}
	linked := filepath.Join(t.TempDir(), "linked")
	require.NoError(t, os.Symlink(host, linked))
	_, err = Dial(t.Context(), linked, "prize.sock")
	assert.Error(t, err, "the folder itself is no link either")
	conn, err := Dial(t.Context(), host, "prize.sock")
	require.NoError(t, err)
	conn.Close()
}
