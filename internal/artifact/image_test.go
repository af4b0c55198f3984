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
		platforms     []v1.Platform
		user          string
		architectures []string
	}{
		"both":  {[]v1.Platform{{OS: "linux", Architecture: "arm64"}, {OS: "linux", Architecture: "amd64"}}, "amd64", []string{"arm64", "amd64"}},
		"board": {[]v1.Platform{{OS: "windows", Architecture: "amd64"}, {OS: "linux", Architecture: "arm64"}}, "arm64", []string{"arm64"}},
	} {
		found, err := s.Image(t.Context(), push(tag, c.platforms...))
		require.NoError(t, err, tag)
		assert.JSONEq(t, `{"remoteUser": "`+c.user+`"}`, string(found.Metadata), tag)
		assert.Contains(t, found.Resolved, "/skerry/board@sha256:", tag)
		assert.Equal(t, c.architectures, found.Architectures, tag)
		offline := q.store(t)
		offline.Folder, offline.Offline = s.Folder, true
		again, err := offline.Image(t.Context(), found.Resolved)
		require.NoError(t, err)
		assert.Equal(t, found, again, "it is known from then on")
	}
	_, err := s.Image(t.Context(), push("none", v1.Platform{OS: "windows", Architecture: "amd64"}))
	assert.ErrorContains(t, err, "no processors on which Linux runs")
}
