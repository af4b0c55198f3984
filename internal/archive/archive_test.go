package archive

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type entry struct {
	name, link, content string
	kind                byte
	size                int64
}

func tarOf(entries ...entry) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, e := range entries {
		if e.kind == 0 {
			e.kind = tar.TypeReg
		}
		h := &tar.Header{Name: e.name, Linkname: e.link, Typeflag: e.kind, Size: int64(len(e.content)), Mode: 0o755}
		if e.size > 0 {
			h.Size = e.size
		}
		_ = w.WriteHeader(h)
		_, _ = w.Write([]byte(e.content))
	}
	_ = w.Close()
	return b.Bytes()
}

func unpackTo(t testing.TB, b []byte, l Limits) (string, error) {
	folder := t.TempDir()
	inside := filepath.Join(folder, "inside")
	require.NoError(t, os.Mkdir(inside, 0o755))
	root, err := os.OpenRoot(inside)
	require.NoError(t, err)
	defer root.Close()
	return folder, Unpack(t.Context(), bytes.NewReader(b), root, l)
}

func TestHostileArchivesAreRefused(t *testing.T) {
	cases := map[string][]byte{
		"path above":               tarOf(entry{name: "../out"}),
		"path above in the middle": tarOf(entry{name: "a/../../out"}),
		"absolute path":            tarOf(entry{name: "/etc/out"}),
		"link out":                 tarOf(entry{name: "l", link: "../..", kind: tar.TypeSymlink}),
		"absolute link":            tarOf(entry{name: "l", link: "/etc/passwd", kind: tar.TypeSymlink}),
		"hard link":                tarOf(entry{name: "l", link: "/etc/passwd", kind: tar.TypeLink}),
		"device":                   tarOf(entry{name: "d", kind: tar.TypeChar}),
		"pipe":                     tarOf(entry{name: "p", kind: tar.TypeFifo}),
		"too many":                 tarOf(make([]entry, 0)...),
		"backslash":                tarOf(entry{name: `..\out`}),
	}
	many := make([]entry, 101)
	for i := range many {
		many[i] = entry{name: "f" + string(rune('a'+i%26)) + string(rune('a'+i/26))}
	}
	cases["too many"] = tarOf(many...)
	for name, b := range cases {
		t.Run(name, func(t *testing.T) {
			folder, err := unpackTo(t, b, Limits{Bytes: 1 << 20, Entries: 100})
			assert.ErrorIs(t, err, ErrRefused)
			left, err := os.ReadDir(folder)
			require.NoError(t, err)
			assert.Len(t, left, 1, "nothing outside")
		})
	}
}

// A small compressed archive may claim to unpack to far more than a disk holds.
func TestABombIsStopped(t *testing.T) {
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	w := tar.NewWriter(z)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "zeros", Typeflag: tar.TypeReg, Size: 64 << 20}))
	_, err := io.CopyN(w, zeros{}, 64<<20)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	assert.Less(t, bomb.Len(), 100<<10)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = unpackTo(t, bomb.Bytes(), Limits{Bytes: 1 << 20, Entries: 10})
	runtime.ReadMemStats(&after)
	assert.ErrorIs(t, err, ErrRefused)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(100*bomb.Len()))
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// An entry must not write through a link that an earlier entry made.
func TestALaterEntryDoesNotFollowALink(t *testing.T) {
	folder, err := unpackTo(t, tarOf(entry{name: "real", content: "old"}, entry{name: "l", link: "real", kind: tar.TypeSymlink}, entry{name: "l", content: "new"}), Usual)
	require.NoError(t, err)
	for name, want := range map[string]string{"real": "old", "l": "new"} {
		b, err := os.ReadFile(filepath.Join(folder, "inside", name))
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
}

func TestWhatWasPackedIsUnpackedAgain(t *testing.T) {
	files := fstest.MapFS{"install.sh": {Data: []byte("#!/bin/sh\n"), Mode: 0o644}, "lib/a": {Data: []byte("x")}, "lib/run": {Data: []byte("y"), Mode: 0o755}}
	var first, second bytes.Buffer
	require.NoError(t, Pack(&first, files))
	require.NoError(t, Pack(&second, files))
	assert.Equal(t, first.Bytes(), second.Bytes(), "the same files give the same archive")
	folder, err := unpackTo(t, first.Bytes(), Usual)
	require.NoError(t, err)
	for name, run := range map[string]bool{"install.sh": true, "lib/a": false, "lib/run": true} {
		info, err := os.Stat(filepath.Join(folder, "inside", name))
		require.NoError(t, err)
		assert.Equal(t, run, info.Mode()&0o100 != 0, name)
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(tarOf(entry{name: "a/b", content: "x"}, entry{name: "l", link: "a/b", kind: tar.TypeSymlink}))
	f.Add(tarOf(entry{name: "../x"}))
	f.Add([]byte{0x1f, 0x8b, 8})
	f.Fuzz(func(t *testing.T, b []byte) {
		folder, _ := unpackTo(t, b, Limits{Bytes: 1 << 20, Entries: 100})
		left, err := os.ReadDir(folder)
		require.NoError(t, err)
		require.Len(t, left, 1, "nothing was written outside")
	})
}
