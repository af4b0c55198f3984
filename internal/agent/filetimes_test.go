package agent

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// What engines lose of files on the way is there again: times to the nanosecond, of folders too, attributes, and holes.
func TestWhatFilesHaveBesideTheirContent(t *testing.T) {
	root := t.TempDir()
	deep, file := filepath.Join(root, "a", "b"), filepath.Join(root, "a", "b", "log")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	sparse, err := os.Create(file)
	require.NoError(t, err)
	_, err = sparse.WriteAt([]byte("begin"), 0)
	require.NoError(t, err)
	_, err = sparse.WriteAt([]byte("end"), 20<<20)
	require.NoError(t, err)
	require.NoError(t, sparse.Close())
	require.NoError(t, os.Symlink("log", filepath.Join(deep, "link")))
	if err := unix.Lsetxattr(file, "user.tide", []byte("high"), 0); err != nil {
		t.Fatalf("this file system keeps no attributes: %v", err)
	}
	when := time.Unix(1_700_000_000, 123_456_789)
	for _, name := range []string{file, deep, filepath.Dir(deep), root} {
		require.NoError(t, os.Chtimes(name, when, when))
	}
	a := &account{uid: os.Getuid(), gid: os.Getgid()}
	var notes bytes.Buffer
	n, err := noteFiles(a, []string{root}, &notes)
	require.NoError(t, err)
	assert.Equal(t, 5, n)

	// As an archive brings them: whole, without attributes, with times of their own.
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(file, b, 0o644))
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, nil, 0o644))
	notes.WriteString(`{"p":"` + outside + `","t":1}` + "\n" + `{"p":"` + root + `/../` + filepath.Base(filepath.Dir(outside)) + `/outside","t":1}` + "\n")
	failed, err := restoreFiles(a, []string{root}, &notes)
	require.NoError(t, err)
	assert.Zero(t, failed)
	for _, name := range []string{file, deep, filepath.Dir(deep), root} {
		info, err := os.Lstat(name)
		require.NoError(t, err)
		assert.True(t, info.ModTime().Equal(when), "%s: %s", name, info.ModTime())
	}
	assert.Equal(t, map[string][]byte{"user.tide": []byte("high")}, xattrsOf(file))
	var is unix.Stat_t
	require.NoError(t, unix.Stat(file, &is))
	assert.Less(t, is.Blocks*512, int64(1<<20), "the holes are there")
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(b, now))
	info, err := os.Stat(outside)
	require.NoError(t, err)
	assert.NotZero(t, info.ModTime().Unix()-0, "what lies elsewhere is not touched")
	assert.Greater(t, info.ModTime().Unix(), int64(1000))
}
