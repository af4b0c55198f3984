package backup

import (
	"archive/tar"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

func file(t *testing.T, name, text string) string {
	t.Helper()
	require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
	return name
}

func TestWhatIsPutInComesOut(t *testing.T) {
	data, to := t.TempDir(), t.TempDir()
	for _, name := range []string{"secret.key", "ssh_host_ed25519_key", "ssh_host_authority_key"} {
		file(t, filepath.Join(data, name), "the "+name)
	}
	file(t, filepath.Join(data, "domicile-data"), "not in it")
	dump := file(t, filepath.Join(t.TempDir(), "dump"), "the records")
	made := time.Date(2026, 5, 1, 8, 0, 0, 0, time.UTC)
	kept := filepath.Join(to, "skerry.backup")
	into := func() error {
		return Into(kept, func(w io.Writer) error { return Write(w, Manifest{Version: "1", Schema: 21, Made: made}, data, dump) })
	}
	require.NoError(t, into())
	info, err := os.Stat(kept)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "it has the keys in it")
	assert.Equal(t, "file-exists", fault.Code(into()), "none is written over")
	nowhere := Into("/nowhere/x", func(io.Writer) error { return nil })
	assert.EqualError(t, nowhere, "cannot make /nowhere/x: no such file or directory")

	m, err := Look(kept)
	require.NoError(t, err)
	assert.Equal(t, Manifest{Form: 1, Version: "1", Schema: 21, Made: made}, m)
	back := t.TempDir()
	_, err = Unpack(kept, back)
	require.NoError(t, err)
	list, err := os.ReadDir(back)
	require.NoError(t, err)
	assert.Len(t, list, 4)
	for name, want := range map[string]string{"secret.key": "the secret.key", Records: "the records"} {
		b, err := os.ReadFile(filepath.Join(back, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(b))
	}
	_, err = Unpack(kept, back)
	assert.Error(t, err, "nothing is written over")
}

// parts is a file of any parts.
func parts(t *testing.T, parts ...tar.Header) string {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range parts {
		text := h.PAXRecords["DOMICILE.text"]
		h.PAXRecords, h.Size = nil, int64(len(text))
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return file(t, filepath.Join(t.TempDir(), "x"), b.String())
}

func part(name, text string) tar.Header {
	return tar.Header{Name: name, Typeflag: tar.TypeReg, PAXRecords: map[string]string{"DOMICILE.text": text}}
}

func TestWhatIsNoBackup(t *testing.T) {
	head, records := part(manifestPart, `{"form": 1}`), part(Records, "r")
	link := tar.Header{Name: "secret.key", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}
	for name, x := range map[string]struct{ file, says string }{
		"nothing":        {filepath.Join(t.TempDir(), "none"), "no such file"},
		"text":           {file(t, filepath.Join(t.TempDir(), "x"), "tide"), "unexpected EOF"},
		"another tar":    {parts(t, records), "it begins with records.dump"},
		"a newer one":    {parts(t, part(manifestPart, `{"form": 2, "version": "9"}`), records), "of a newer form"},
		"a strange part": {parts(t, head, part("../escape", "x"), records), `"../escape", which is no part`},
		"a link":         {parts(t, head, link, records), "no part of a backup"},
		"no end":         {parts(t, head), "its end is missing"},
		"one part twice": {parts(t, head, records, records), "file exists"},
	} {
		folder := filepath.Join(t.TempDir(), "to")
		require.NoError(t, os.Mkdir(folder, 0o700))
		_, err := Unpack(x.file, folder)
		assert.ErrorContains(t, err, x.says, name)
		assert.NoFileExists(t, filepath.Join(filepath.Dir(folder), "escape"))
	}
	_, err := Look(parts(t, head, records))
	assert.NoError(t, err)
}

func FuzzUnpack(f *testing.F) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	_ = add(w, manifestPart, []byte(`{"form": 1}`), time.Unix(0, 0))
	_ = add(w, Records, []byte("r"), time.Unix(0, 0))
	_ = w.Close()
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		above := t.TempDir()
		folder := filepath.Join(above, "to")
		require.NoError(t, os.Mkdir(folder, 0o700))
		_, _ = Unpack(file(t, filepath.Join(above, "x"), string(b)), folder)
		list, err := os.ReadDir(above)
		require.NoError(t, err)
		assert.Len(t, list, 2, "nothing is written beside the folder")
	})
}
