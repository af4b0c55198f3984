package engine

import (
	"archive/tar"
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of an image's archive the layers are left out that the other engine has.
func TestAnArchiveWithoutLayers(t *testing.T) {
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	for name, text := range map[string]string{"one/layer.tar": "one", "two/layer.tar": "two", "config.json": "{}"} {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text))}))
		_, err := w.Write([]byte(text))
		require.NoError(t, err)
	}
	manifest := `[{"Config": "config.json", "Layers": ["one/layer.tar", "two/layer.tar"]}]`
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "manifest.json", Mode: 0o644, Size: int64(len(manifest))}))
	_, err := w.Write([]byte(manifest))
	require.NoError(t, err)
	require.NoError(t, w.Close())

	layers, err := layerFiles(bytes.NewReader(archive.Bytes()))
	require.NoError(t, err)
	assert.Equal(t, []string{"one/layer.tar", "two/layer.tar"}, layers)
	for _, c := range []struct {
		skip map[string]bool
		left int
	}{{nil, 4}, {map[string]bool{"one/layer.tar": true}, 3}} {
		var out bytes.Buffer
		require.NoError(t, without(bytes.NewReader(archive.Bytes()), &out, c.skip))
		n := 0
		for r := tar.NewReader(&out); ; n++ {
			h, err := r.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			assert.False(t, c.skip[h.Name], h.Name)
		}
		assert.Equal(t, c.left, n)
	}
	assert.Equal(t, 2, sameFirst([]string{"a", "b", "c"}, []string{"a", "b", "d"}))
	assert.Equal(t, 0, sameFirst([]string{"a"}, nil))
	_, err = layerFiles(bytes.NewReader([]byte("no archive at all, and long enough to be looked at")))
	assert.Error(t, err)
}
