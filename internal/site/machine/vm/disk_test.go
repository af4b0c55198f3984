package vm

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

// A disk that names another file than the one it was made to begin with is not opened: whoever
// writes to it has no say in what the host opens.
func TestADiskThatNamesAnotherFile(t *testing.T) {
	folder := t.TempDir()
	in := func(name string) string { return filepath.Join(folder, name) }
	create := func(name string, options ...string) {
		require.NoError(t, image(t.Context(), append(append([]string{"create", "-q", "-f", "qcow2"}, options...), in(name), "1M")...))
	}
	create("base")
	create("other")
	for name, options := range map[string][]string{"good": {"-b", in("base"), "-F", "qcow2"}, "moved": {"-b", in("other"), "-F", "qcow2"}, "alone": nil, "outside": {"-o", "data_file=" + in("raw")}} {
		create(name, options...)
	}
	require.NoError(t, os.WriteFile(in("cut"), []byte("QFI\xfb"), 0o600))
	require.NoError(t, os.WriteFile(in("raw-disk"), make([]byte, 4096), 0o600))
	require.NoError(t, os.Symlink(in("good"), in("link")))
	for name, why := range map[string]string{"good": "", "moved": "it begins with", "alone": "it begins with", "outside": "data in another file", "cut": "read its head", "raw-disk": "its head is none", "link": "too many levels", "gone": "no such file"} {
		err := disks{name: in("base")}.judge(folder)
		if why == "" {
			assert.NoError(t, err)
			continue
		}
		assert.Equal(t, "disk-refused", fault.Code(err), name)
		assert.ErrorContains(t, err, why, name)
	}
}

// Whatever a disk's head says, it is read without harm.
func FuzzJudgeDisk(f *testing.F) {
	f.Add([]byte("QFI\xfb\x00\x00\x00\x03"))
	f.Fuzz(func(t *testing.T, head []byte) {
		file := filepath.Join(t.TempDir(), "disk")
		require.NoError(t, os.WriteFile(file, head, 0o600))
		if judgeDisk(file, "/var/base") == nil {
			assert.Contains(t, string(head), "/var/base")
		}
	})
}
