package artifact

import (
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An image that is only for other processors than the usual ones, such as those of small boards,
// is known like another; one that runs on no Linux is not.
func TestAnImageForOtherProcessors(t *testing.T) {
	q := openQuay(t)
	push := func(tag string, platforms ...v1.Platform) string {
		index := v1.ImageIndex(empty.Index)
		for _, p := range platforms {
			image, err := mutate.Config(empty.Image, v1.Config{Labels: map[string]string{metadataLabel: `{"remoteUser": "` + p.Architecture + `"}`}})
			require.NoError(t, err)
			index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: image, Descriptor: v1.Descriptor{Platform: &p}})
		}
		reference := q.at + "/skerry/board:" + tag
		ref, err := name.ParseReference(reference)
		require.NoError(t, err)
		require.NoError(t, remote.WriteIndex(ref, index))
		return reference
	}
	s := q.store(t)
	for tag, c := range map[string]struct {
		platforms []v1.Platform
		user      string
	}{
		"both":  {[]v1.Platform{{OS: "linux", Architecture: "arm64"}, {OS: "linux", Architecture: "amd64"}}, "amd64"},
		"board": {[]v1.Platform{{OS: "windows", Architecture: "amd64"}, {OS: "linux", Architecture: "arm64"}}, "arm64"},
	} {
		resolved, metadata, err := s.Image(t.Context(), push(tag, c.platforms...))
		require.NoError(t, err, tag)
		assert.JSONEq(t, `{"remoteUser": "`+c.user+`"}`, string(metadata), tag)
		assert.Contains(t, resolved, "/skerry/board@sha256:", tag)
	}
	_, _, err := s.Image(t.Context(), push("none", v1.Platform{OS: "windows", Architecture: "amd64"}))
	assert.ErrorContains(t, err, "no processors on which Linux runs")
}
