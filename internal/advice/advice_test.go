package advice

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhereTheTimeWent(t *testing.T) {
	steps := []Step{{Name: "fetch", Title: "Fetch the source", Took: time.Second}, {Name: "image", Title: "Pull the image a", Took: 12 * time.Second}, {Name: "onCreateCommand", Title: "Run onCreateCommand", Took: 7 * time.Second}}
	assert.Equal(t, []string{"60 % of 20.0 s: Pull the image a (12.0 s)", "35 % of 20.0 s: Run onCreateCommand (7.0 s)"}, Where(steps))
	assert.Empty(t, Where(steps[:1]), "a short run is not worth a word")
}

func TestWhatWouldBeFaster(t *testing.T) {
	cases := map[string]struct {
		steps []Step
		says  string
	}{
		"ahead":    {[]Step{{Name: "image", Took: 4 * time.Second, Done: true}, {Name: "onCreateCommand", Took: 2 * time.Second, Done: true}}, "domicile prepare https://g/x -follow"},
		"person":   {[]Step{{Name: "postCreateCommand", Took: 3 * time.Second, Done: true}}, "belongs into updateContentCommand"},
		"packages": {[]Step{{Name: "onCreateCommand", Took: 3 * time.Second, Done: true, Commands: []string{"sudo apt-get install -y jq"}}}, "in a Dockerfile or a feature"},
		"retried":  {[]Step{{Name: "image", Title: "Pull", Took: time.Second, Done: true, Attempts: 3}}, "tried 3 times"},
		"skipped":  {[]Step{{Name: "image", Took: 9 * time.Second, Attempts: 1}}, ""},
		"quick":    {[]Step{{Name: "image", Took: time.Second, Done: true, Attempts: 1}}, ""},
	}
	for name, c := range cases {
		got := Faster(c.steps, "https://g/x", true)
		for _, line := range Faster(c.steps, "https://g/x", false) {
			assert.NotContains(t, line, "ahead", "where nothing can be prepared")
		}
		if c.says == "" {
			assert.Empty(t, got, name)
			continue
		}
		if assert.NotEmpty(t, got, name) {
			assert.Contains(t, got[0], c.says, name)
		}
	}
}
