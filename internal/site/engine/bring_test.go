package engine

import (
	"archive/tar"
	"bytes"
	"io"
	"strings"
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
}

// The names are those that an engine of version 20.10 gave in an archive of these layers.
func TestTheFilesOfLayers(t *testing.T) {
	layers := []string{
		"sha256:68e257370e518b7c8cb016313a61f740928117e389297e01cdb8e3e076a8ebbe",
		"sha256:5a731033759d0e3cfe3f361661b510a769ff70cd93c98e45619e5077286af39f",
		"sha256:12dc136163fb96899d481cda109d5a015693b8d77a7474cda83d28940b3177a2",
	}
	const lowest, second = "3e5c19463c3ae450245d0ba5b4177e1110e89aad8222a5e1b8dd352afefc877b/layer.tar", "a4a9184d437421fe548b376216972101648b9d975c8be47f20ca0d7a7d23b5db/layer.tar"
	one, two := layerFiles(layers, 1), layerFiles(layers, 2)
	assert.True(t, one[lowest])
	assert.False(t, one[second])
	assert.True(t, two[lowest] && two[second])
	assert.True(t, two["blobs/sha256/5a731033759d0e3cfe3f361661b510a769ff70cd93c98e45619e5077286af39f"], "newer engines")
	assert.True(t, two["5a731033759d0e3cfe3f361661b510a769ff70cd93c98e45619e5077286af39f.tar"], "engines of another kind")
	assert.False(t, two["blobs/sha256/12dc136163fb96899d481cda109d5a015693b8d77a7474cda83d28940b3177a2"])
	assert.Len(t, layerFiles(layers, 9), len(layerFiles(layers, 3)))
	assert.NotContains(t, layerFiles([]string{layers[0], layers[1], layers[0]}, 1), byContent(layers[0])[0], "one that the image has twice is brought")
	assert.Contains(t, layerFiles([]string{layers[0], layers[1], layers[0]}, 1), lowest, "by its place it is another")
}

// Layers with the same content are once in an archive: what a later one needs is not left out.
func TestWhatAnArchiveCanLack(t *testing.T) {
	for _, c := range []struct {
		layers string
		same   int
		want   int
	}{{"abc", 2, 2}, {"abcb", 2, 1}, {"abca", 3, 0}, {"aba", 3, 3}, {"abcdc", 4, 2}, {"", 0, 0}, {"abcbd", 3, 1}} {
		assert.Equal(t, c.want, wholeWithout(strings.Split(c.layers, ""), c.same), c.layers)
	}
}
