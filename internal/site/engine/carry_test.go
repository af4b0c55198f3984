package engine

import (
	"archive/tar"
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// archiveOf makes an archive of files; a name that ends in @ is a link.
func archiveOf(t *testing.T, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		h := &tar.Header{Name: f[0], Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(f[1]))}
		if name, link := bytes.CutSuffix([]byte(f[0]), []byte("@")); link {
			h = &tar.Header{Name: string(name), Typeflag: tar.TypeSymlink, Linkname: f[1]}
		}
		require.NoError(t, w.WriteHeader(h))
		if h.Typeflag == tar.TypeReg {
			_, err := io.WriteString(w, f[1])
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// What another engine gives may not replace images that nobody asked it for.
func TestAnArchiveBringsOneImageAlone(t *testing.T) {
	const name = "domicile-state:abc-workspace"
	manifest := func(tags string) [2]string {
		return [2]string{"manifest.json", `[{"Config": "c.json", "RepoTags": ` + tags + `, "Layers": ["l.tar"]}]`}
	}
	for what, c := range map[string]struct {
		files [][2]string
		says  string
	}{
		"the one":                   {[][2]string{{"l.tar", "layer"}, manifest(`["domicile-state:abc-workspace"]`), {"repositories", `{"domicile-state": {"abc-workspace": "x"}}`}}, ""},
		"written out":               {[][2]string{manifest(`["localhost/domicile-state:abc-workspace"]`)}, ""},
		"of an engine with indices": {[][2]string{manifest(`["domicile-state:abc-workspace"]`), {"index.json", `{"manifests": [{"annotations": {"io.containerd.image.name": "docker.io/library/domicile-state:abc-workspace", "org.opencontainers.image.ref.name": "abc-workspace"}}]}`}}, ""},
		"another beside it":         {[][2]string{manifest(`["domicile-state:abc-workspace", "domicile-image:of-others"]`)}, `brings an image "domicile-image:of-others"`},
		"another in a second list":  {[][2]string{{"manifest.json", `[{"RepoTags": ["domicile-state:abc-workspace"]}, {"RepoTags": ["debian:12"]}]`}}, "debian:12"},
		"a second list":             {[][2]string{manifest(`["domicile-state:abc-workspace"]`), {"x/../manifest.json", `[{"RepoTags": ["debian:12"]}]`}}, "debian:12"},
		"the older file":            {[][2]string{manifest(`["domicile-state:abc-workspace"]`), {"./repositories", `{"debian": {"12": "x"}}`}}, "debian:12"},
		"the newer file":            {[][2]string{{"/index.json", `{"manifests": [{"annotations": {"io.containerd.image.name": "docker.io/library/debian:12"}}]}`}}, "debian:12"},
		"a link":                    {[][2]string{{"manifest.json@", "l.tar"}}, "is no small file"},
		"nonsense":                  {[][2]string{{"manifest.json", `[`}}, "read the archive's manifest.json"},
	} {
		t.Run(what, func(t *testing.T) {
			archive := archiveOf(t, c.files...)
			var out bytes.Buffer
			err := onlyNamed(bytes.NewReader(archive), &out, name)
			if c.says != "" {
				assert.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, archive, out.Bytes())
		})
	}
}
