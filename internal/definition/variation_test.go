package definition

import (
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

func readVaried(t *testing.T, text string, vary ...string) *Report {
	t.Helper()
	list, err := ParseVariations(vary)
	require.NoError(t, err)
	return Read(t.Context(), fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(text)}, ".devcontainer/Dockerfile": {Data: []byte("FROM base\n")},
		".devcontainer/tide/devcontainer-feature.json": {Data: []byte(`{"id": "tide", "version": "2.0.0", "options": {"version": {"type": "string", "default": "1"}, "feet": {"type": "boolean", "default": false}}}`)},
		".devcontainer/tide/install.sh":                {Data: []byte("true\n")}}, Options{Folder: "/w", Variations: list})
}

func TestAVariationStandsInPlaceOfWhatTheFileSays(t *testing.T) {
	image := func(r *Report) any { return r.Effective.Image }
	options := func(r *Report) any { return r.Features[0].Options }
	for name, c := range map[string]struct {
		text string
		vary []string
		got  func(*Report) any
		want any
	}{
		"a tag":                       {`{"image": "quay.test:5000/base:12"}`, []string{"image=13"}, image, "quay.test:5000/base:13"},
		"a tag where there is none":   {`{"image": "quay.test:5000/base"}`, []string{"image=13"}, image, "quay.test:5000/base:13"},
		"a tag in place of a digest":  {`{"image": "base:12@sha256:` + strings.Repeat("a", 64) + `"}`, []string{"image=13"}, image, "base:13"},
		"a whole image":               {`{"image": "base:12"}`, []string{"image=other.test/x/y:1"}, image, "other.test/x/y:1"},
		"the last of two":             {`{"image": "base:12"}`, []string{"image=13", "image=14"}, image, "base:14"},
		"an option":                   {`{"image": "b", "features": {"./tide": {"feet": false}}}`, []string{"features.tide.feet=true"}, options, map[string]any{"feet": true, "version": "1"}},
		"an option that was left out": {`{"image": "b", "features": {"./tide": {}}}`, []string{"features../tide.version=3"}, options, map[string]any{"feet": false, "version": "3"}},
		"an option beside a version":  {`{"image": "b", "features": {"./tide": "2"}}`, []string{"features.tide.feet=true"}, options, map[string]any{"feet": true, "version": "2"}},
		"a build argument":            {`{"build": {"dockerfile": "Dockerfile"}}`, []string{"build.args.NODE=20", "build.args.LINE=a=b c"}, func(r *Report) any { return r.Effective.Build.Args }, map[string]string{"NODE": "20", "LINE": "a=b c"}},
		"a variable":                  {`{"image": "b", "containerEnv": {"A": "1", "B": "2"}}`, []string{"containerEnv.A=x"}, func(r *Report) any { return r.Effective.ContainerEnv }, map[string]string{"A": "x", "B": "2"}},
	} {
		t.Run(name, func(t *testing.T) {
			r := readVaried(t, c.text, c.vary...)
			for _, p := range r.Problems {
				assert.NotEqual(t, Error, p.Severity, p.String())
			}
			want, _ := json.Marshal(c.want)
			got, _ := json.Marshal(c.got(r))
			assert.JSONEq(t, string(want), string(got))
			assert.NotEqual(t, readVaried(t, c.text).Digest, r.Digest, "it is another definition")
		})
	}
}

func TestWhatCannotBeVariedIsTold(t *testing.T) {
	for vary, c := range map[string]struct{ text, says string }{
		"image=13":                {`{"build": {"dockerfile": "Dockerfile"}}`, "the definition has no image"},
		"build.args.A=1":          {`{"image": "b"}`, "the definition has no build"},
		"features.tide.feet=true": {`{"image": "b"}`, "the definition has no features"},
		"features.moon.feet=true": {`{"image": "b", "features": {"./tide": {}}}`, "no feature moon, but tide"},
		"features.tide.x=1":       {`{"image": "b", "features": {"./tide": {}, "r.test/a/tide:1": {}}}`, "several features are called tide"},
	} {
		r := readVaried(t, c.text, vary)
		var said []string
		for _, p := range r.Problems {
			said = append(said, p.String())
		}
		assert.Contains(t, strings.Join(said, "\n"), c.says, vary)
		assert.True(t, r.HasErrors(), vary)
	}
	for _, wrong := range []string{"image", "=1", "image=a b", "image=", "name=x", "features.tide=1", "features..x=1", "build.target=x", "containerEnv.A B=1", "runArgs=--privileged", "containerEnv.A=x\ny", "containerEnv.A=" + strings.Repeat("x", 600)} {
		_, err := ParseVariations([]string{wrong})
		assert.Equal(t, "bad-variation", fault.Code(err), wrong)
	}
}

func FuzzVariations(f *testing.F) {
	f.Add(`{"image": "b", "features": {"./tide": "2"}}`, "features.tide.feet=true")
	f.Add(`{"build": {"args": []}}`, "build.args.A=1")
	f.Fuzz(func(t *testing.T, text, vary string) {
		list, err := ParseVariations([]string{vary})
		if err != nil {
			return
		}
		Read(t.Context(), fstest.MapFS{".devcontainer.json": {Data: []byte(text)}}, Options{Folder: "/w", Variations: list})
	})
}
