package datafolder

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

func claim(t *testing.T, path string, alone bool) *Folder {
	t.Helper()
	f, err := Claim(path, alone)
	require.NoError(t, err)
	t.Cleanup(f.Release)
	return f
}

func refused(t *testing.T, path, code, says, remedy string) {
	t.Helper()
	_, err := Claim(path, true)
	require.ErrorContains(t, err, says)
	assert.Equal(t, code, fault.Code(err))
	assert.Contains(t, fault.Remedy(err), remedy)
}

func TestOneServiceHoldsIt(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "data")
	f := claim(t, path, true)
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	refused(t, path, "folder-held", "is another service's: process ", "end that one first")
	f.Release()
	// Those that share their records share the folder, and one that is alone does not come in beside them.
	one, other := claim(t, path, false), claim(t, path, false)
	refused(t, path, "folder-held", "is another service's", "-data")
	one.Release()
	other.Release()
	claim(t, path, true)
}

// A folder can be tried without a trace.
func TestAFolderIsTried(t *testing.T) {
	path := t.TempDir()
	require.NoError(t, Try(path, true))
	require.NoError(t, Try(filepath.Join(path, "not", "there"), true))
	list, err := os.ReadDir(path)
	require.NoError(t, err)
	assert.Empty(t, list)
	f := claim(t, path, false)
	require.NoError(t, Try(path, false))
	assert.Equal(t, "folder-held", fault.Code(Try(path, true)))
	f.Release()
	require.NoError(t, Try(path, true))
	// What another user has put in the lock's place keeps nobody waiting, and is not followed.
	for _, put := range []func(string) error{func(at string) error { return syscall.Mkfifo(at, 0o600) }, func(at string) error { return os.Symlink("/dev/zero", at) }} {
		strange := t.TempDir()
		require.NoError(t, put(filepath.Join(strange, "lock")))
		_ = Try(strange, true)
	}
	require.NoError(t, os.WriteFile(filepath.Join(path, "other"), nil, 0o600))
	require.NoError(t, os.Remove(filepath.Join(path, "domicile-data")))
	assert.Equal(t, "not-our-folder", fault.Code(Try(path, true)))
}

func TestWhatIsNotOurs(t *testing.T) {
	path := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(path, "letters.txt"), nil, 0o600))
	refused(t, path, "not-our-folder", "it has letters.txt", "an empty folder")
	list, err := os.ReadDir(path)
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing is touched")
	file := filepath.Join(path, "letters.txt")
	refused(t, file, "no-data-folder", "not a directory", "-data")

	before := t.TempDir() // of a version without the mark
	require.NoError(t, os.WriteFile(filepath.Join(before, "secret.key"), nil, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(before, "more"), nil, 0o600))
	claim(t, before, true)
}

// A first start that was cut anywhere left a folder that the next one takes.
func TestAFirstStartThatWasCut(t *testing.T) {
	path := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(path, "sockets"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(path, "lock"), nil, 0o600))
	claim(t, path, true)
}

func TestAFolderWithALongPath(t *testing.T) {
	claim(t, filepath.Join(t.TempDir(), strings.Repeat("sea/", 40)), true)
}

// A disk that is full or read-only is told, whoever the service is.
func TestADiskThatTakesNothing(t *testing.T) {
	require.Zero(t, os.Getuid(), "this test mounts a disk, which root may")
	path := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", path, "tmpfs", 0, "size=64k"))
	defer syscall.Unmount(path, syscall.MNT_DETACH)
	claim(t, path, true).Release()
	require.NoError(t, os.Remove(filepath.Join(path, "lock")))
	full, err := os.Create(filepath.Join(path, "full"))
	require.NoError(t, err)
	for err == nil {
		_, err = full.Write(make([]byte, 4096))
	}
	require.NoError(t, full.Close())
	refused(t, path, "no-data-folder", "no space left", "make room")
	require.NoError(t, syscall.Mount("tmpfs", path, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	refused(t, path, "no-data-folder", "read-only", "chown")
}
