package engine

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the engine says of a pull of two layers, of which the second one is fetched while the
// first one is unpacked.
const twoLayers = `{"status":"Pulling from skerry/base","id":"12"}
{"status":"Pulling fs layer","progressDetail":{},"id":"a"}
{"status":"Downloading","progressDetail":{"current":1048576,"total":4194304},"id":"a"}
{"status":"Downloading","progressDetail":{"current":524288,"total":1048576},"id":"b"}
{"status":"Download complete","progressDetail":{},"id":"a"}
{"status":"Extracting","progressDetail":{"current":2097152,"total":4194304},"id":"a"}
{"status":"Download complete","progressDetail":{},"id":"b"}
{"status":"Pull complete","progressDetail":{},"id":"a"}
{"status":"Extracting","progressDetail":{"current":1048576,"total":1048576},"id":"b"}
{"status":"Pull complete","progressDetail":{},"id":"b"}
{"status":"Digest: sha256:0"}
{"status":"Status: Downloaded newer image"}
`

func TestAPullTellsWhatIsWaitedFor(t *testing.T) {
	var said []string
	require.NoError(t, followPull(strings.NewReader(twoLayers), 0, func(line string) { said = append(said, line) }))
	for i, want := range []string{`^1\.0 of 4\.0 MB, [\d.]+ MB/s$`, `^1\.5 of 5\.0 MB`, `^4\.5 of 5\.0 MB`, `^4\.5 of 5\.0 MB`, `^unpacked 2\.0 of 5\.0 MB$`, `^unpacked 4\.0 of 5\.0 MB$`, `^unpacked 5\.0 of 5\.0 MB$`, `^unpacked 5\.0`, `^5\.0 MB fetched and unpacked in 0\.0 s$`} {
		require.Greater(t, len(said), i)
		assert.Regexp(t, regexp.MustCompile(want), said[i])
	}
	assert.Len(t, said, 9)
	said = nil
	require.NoError(t, followPull(strings.NewReader(twoLayers), time.Hour, func(line string) { said = append(said, line) }))
	assert.Len(t, said, 1, "a fast one says how it went, and no more")
	said = nil
	require.NoError(t, followPull(strings.NewReader(`{"status":"Already exists","id":"a"}`+"\n"), 0, func(line string) { said = append(said, line) }))
	assert.Equal(t, []string{"all its layers were there already"}, said)
	err := followPull(strings.NewReader(`{"errorDetail":{"message":"no space left on device"},"error":"no space left on device"}`), 0, func(string) {})
	assert.ErrorContains(t, err, "no space left")
	assert.Error(t, followPull(strings.NewReader(`{"status":"Down`), 0, func(string) {}), "a stream that breaks off is no pull")
}
