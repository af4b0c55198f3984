package agent

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A new volume is the person's; one that has content, or an owner, and one that a link leads to elsewhere, is not.
func TestNewVolumesAreThePersons(t *testing.T) {
	require.Zero(t, os.Getuid(), "this test wants root")
	root := t.TempDir()
	a := &account{uid: 54321, gid: 54322}
	owner := func(name string) uint32 {
		info, err := os.Stat(filepath.Join(root, name))
		require.NoError(t, err)
		return info.Sys().(*syscall.Stat_t).Uid
	}
	for _, name := range []string{"empty", "full", "owned"} {
		require.NoError(t, os.Mkdir(filepath.Join(root, name), 0o755))
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "full", "x"), nil, 0o644))
	require.NoError(t, os.Chown(filepath.Join(root, "owned"), 999, 999))
	for _, name := range []string{"empty", "full", "owned"} {
		require.NoError(t, ownVolume(a, filepath.Join(root, name)))
	}
	assert.EqualValues(t, 54321, owner("empty"))
	assert.Zero(t, owner("full"))
	assert.EqualValues(t, 999, owner("owned"))

	require.NoError(t, os.Mkdir(filepath.Join(root, "victim"), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(root, "victim"), filepath.Join(root, "link")))
	require.NoError(t, os.Lchown(filepath.Join(root, "link"), 999, 999))
	assert.Error(t, ownVolume(a, filepath.Join(root, "link")), "a link of somebody's is not followed")
	assert.Zero(t, owner("victim"))
}
