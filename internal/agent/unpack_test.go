package agent

import (
	"archive/tar"
	"bytes"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func archive(t *testing.T, entries ...tar.Header) *bytes.Buffer {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range entries {
		content := []byte("content of " + h.Name)
		if h.Typeflag == tar.TypeReg && h.Size == 0 {
			h.Size = int64(len(content))
		}
		require.NoError(t, w.WriteHeader(&h))
		if h.Typeflag == tar.TypeReg {
			_, err := w.Write(append(content, make([]byte, h.Size-int64(len(content)))...))
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return &b
}

func me(t *testing.T) *account {
	t.Helper()
	a, err := lookupAccount("")
	require.NoError(t, err)
	return a
}

func TestUnpack(t *testing.T) {
	target := filepath.Join(t.TempDir(), "deck", "cabin")
	entries := []tar.Header{
		{Name: "bin", Typeflag: tar.TypeDir, Mode: 0o755},
		{Name: "bin/serve", Typeflag: tar.TypeReg, Mode: 0o755},
		{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"},
		{Name: "pipe", Typeflag: tar.TypeFifo},
	}
	for range 2 { // an interrupted one is done again over what is there
		require.NoError(t, unpackTo(target, me(t), archive(t, entries...)))
	}
	info, err := os.Stat(filepath.Join(target, "bin/serve"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o755), info.Mode())
	to, err := os.Readlink(filepath.Join(target, "link"))
	require.NoError(t, err)
	assert.Equal(t, "/etc/passwd", to, "a link stays a link")
	assert.NoFileExists(t, filepath.Join(target, "pipe"))
}

func TestNothingLeadsOutOfTheFolder(t *testing.T) {
	cases := map[string][]tar.Header{
		"a path upwards":        {{Name: "../out", Typeflag: tar.TypeReg}},
		"an absolute path":      {{Name: "/tmp/out", Typeflag: tar.TypeReg}},
		"through a link":        {{Name: "door", Typeflag: tar.TypeSymlink, Linkname: ".."}, {Name: "door/out", Typeflag: tar.TypeReg}},
		"a hard link from afar": {{Name: "shadow", Typeflag: tar.TypeLink, Linkname: "../secret"}},
	}
	for name, entries := range cases {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(folder, "secret"), []byte("secret"), 0o600))
			require.Error(t, unpackTo(filepath.Join(folder, "in"), me(t), archive(t, entries...)))
			left, err := os.ReadDir(folder)
			require.NoError(t, err)
			assert.Len(t, left, 2, "only in and secret")
			assert.NoFileExists(t, "/tmp/out")
		})
	}
}

func TestAFullDiskIsTold(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", folder, "tmpfs", 0, "size=64k"), "the tests run as root")
	t.Cleanup(func() { require.NoError(t, syscall.Unmount(folder, 0)) })
	err := unpackTo(folder, me(t), archive(t, tar.Header{Name: "cargo", Typeflag: tar.TypeReg, Size: 1 << 20}))
	assert.ErrorIs(t, err, syscall.ENOSPC)
	assert.ErrorContains(t, err, "cargo")
}

// The agent is root, and follows no link that somebody else has made to where it writes.
func TestNoLinkOfOthersIsFollowed(t *testing.T) {
	folder := t.TempDir()
	const other = 12345
	kept := filepath.Join(folder, "kept")
	require.NoError(t, os.Mkdir(kept, 0o700))
	link := func(name, to string, owner int) string {
		at := filepath.Join(folder, name)
		require.NoError(t, os.Symlink(to, at))
		require.NoError(t, os.Lchown(at, owner, owner))
		return at
	}
	for name, target := range map[string]string{
		"the folder itself": link("whole", kept, other),
		"on the way":        filepath.Join(link("way", folder, other), "kept"),
		"through root's":    link("of-root", link("of-other", kept, other), os.Getuid()),
	} {
		err := unpackTo(target, me(t), archive(t, tar.Header{Name: "written", Typeflag: tar.TypeReg, Mode: 0o644}))
		require.ErrorContains(t, err, "is a link that belongs to the user 12345", name)
	}
	entries, err := os.ReadDir(kept)
	require.NoError(t, err)
	assert.Empty(t, entries)
	// An image's own links count, relative ones and those to the root.
	require.NoError(t, unpackTo(filepath.Join(link("image", "kept", os.Getuid()), "new"), me(t), archive(t, tar.Header{Name: "a", Typeflag: tar.TypeReg, Mode: 0o644})))
	require.NoError(t, unpackTo(link("image-whole", kept, os.Getuid()), me(t), archive(t, tar.Header{Name: "b", Typeflag: tar.TypeReg, Mode: 0o644})))
	assert.FileExists(t, filepath.Join(kept, "new", "a"))
	assert.FileExists(t, filepath.Join(kept, "b"))
	require.NoError(t, os.Symlink("round", filepath.Join(folder, "round")))
	assert.ErrorIs(t, unpackTo(filepath.Join(folder, "round"), me(t), archive(t)), syscall.ELOOP)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "file"), nil, 0o600))
	assert.ErrorIs(t, unpackTo(filepath.Join(folder, "file"), me(t), archive(t)), syscall.ENOTDIR)
}
