package layer

import (
	"archive/tar"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// read gives the entries of a layer: type, owner, mode, link and content.
func read(t *testing.T, b []byte) map[string]string {
	t.Helper()
	entries := map[string]string{}
	for r := tar.NewReader(bytes.NewReader(b)); ; {
		h, err := r.Next()
		if err == io.EOF {
			return entries
		}
		require.NoError(t, err)
		assert.NotContains(t, entries, h.Name, "nothing is in it twice")
		content, err := io.ReadAll(r)
		require.NoError(t, err)
		entries[h.Name] = fmt.Sprintf("%c %d:%d %o %s%s", h.Typeflag, h.Uid, h.Gid, h.Mode, h.Linkname, content)
		for name, value := range h.PAXRecords {
			if name != "mtime" && name != "path" {
				entries[h.Name] += fmt.Sprintf(" %s=%q", name, value)
			}
		}
	}
}

func TestALayerHasWhatWasChanged(t *testing.T) {
	upper, volume := t.TempDir(), t.TempDir()
	put := func(at, text string, mode os.FileMode) string {
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), mode))
		require.NoError(t, os.Chmod(at, mode))
		return at
	}
	own := put(filepath.Join(upper, "home/crew/note"), "tide", 0o640)
	require.NoError(t, os.Lchown(own, 1000, 1000))
	require.NoError(t, os.Link(own, filepath.Join(upper, "home/crew/same")))
	tool := put(filepath.Join(upper, "usr/bin/tool"), "x", 0o755)
	require.NoError(t, unix.Chmod(tool, 0o4755))
	require.NoError(t, unix.Lsetxattr(tool, "user.made", []byte("by hand"), 0))
	require.NoError(t, unix.Mknod(filepath.Join(upper, "usr/bin/old"), unix.S_IFCHR, 0))
	require.NoError(t, os.Mkdir(filepath.Join(upper, "etc"), 0o755))
	require.NoError(t, unix.Lsetxattr(filepath.Join(upper, "etc"), "trusted.overlay.opaque", []byte("y"), 0))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(upper, "etc/out")))
	require.NoError(t, unix.Mkfifo(filepath.Join(upper, "etc/pipe"), 0o600))
	put(filepath.Join(upper, "src/beneath"), "hidden", 0o600)
	put(filepath.Join(volume, "deep/deck"), "planks", 0o600)
	require.NoError(t, unix.Mknod(filepath.Join(volume, "zero"), unix.S_IFCHR|0o600, 0))

	var b bytes.Buffer
	require.NoError(t, Write(&b, []Part{{From: upper, Upper: true}, {From: volume, At: "workspaces/../src"}}))
	entries := read(t, b.Bytes())
	assert.Equal(t, "0 1000:1000 640 tide", entries["home/crew/note"])
	assert.Equal(t, "1 1000:1000 640 home/crew/note", entries["home/crew/same"])
	assert.Equal(t, `0 0:0 4755 x SCHILY.xattr.user.made="by hand"`, entries["usr/bin/tool"])
	assert.Equal(t, "0 0:0 600 ", entries["usr/bin/.wh.old"], "what was removed")
	assert.NotContains(t, entries, "usr/bin/old")
	assert.Equal(t, "0 0:0 600 ", entries["etc/.wh..wh..opq"], "all that it had is removed")
	assert.Equal(t, "2 0:0 777 /etc/passwd", entries["etc/out"], "a link is kept, not followed")
	assert.Equal(t, "6 0:0 600 ", entries["etc/pipe"])
	assert.Equal(t, "0 0:0 600 planks", entries["src/deep/deck"])
	assert.Contains(t, entries, "src/zero", "in a volume it is a device like others")
	assert.Contains(t, entries, "src/")
	assert.NotContains(t, entries, "src/beneath", "the volume lies over it")
}

func TestWhatIsNoLayer(t *testing.T) {
	assert.ErrorContains(t, Write(io.Discard, []Part{{From: filepath.Join(t.TempDir(), "none")}}), "none")
	var b bytes.Buffer
	require.NoError(t, Write(&b, nil))
	assert.Empty(t, read(t, b.Bytes()))
}
