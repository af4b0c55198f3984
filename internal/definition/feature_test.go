package definition

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

// shelf is a registry in memory: reference without version or digest → metadata.
type shelf map[string]string

func (s shelf) Feature(_ context.Context, r Reference, digest string) (Artifact, error) {
	text, found := s[r.Name]
	if !found {
		return Artifact{}, fault.New("not-found", "", "the registry does not have it")
	}
	files := fstest.MapFS{featureFile: {Data: []byte(text)}, installScript: {Data: []byte("#!/bin/sh\n")}}
	got, err := TreeDigest(files, nil)
	if err == nil && digest != "" && digest != got {
		err = &Mismatch{Want: digest, Got: got}
	}
	return Artifact{files, got}, err
}

const quay = "registry.skerry.test/skerry/"

// skerry has features that need each other in the ways the standard knows.
var skerry = shelf{
	quay + "tide":   `{"id": "tide", "version": "1.2.3", "name": "Tide tables", "options": {"port": {"type": "string", "enum": ["north", "south"], "default": "north"}}}`,
	quay + "rope":   `{"id": "rope", "version": "2.0.0"}`,
	quay + "anchor": `{"id": "anchor", "version": "1.0.0", "dependsOn": {"` + quay + `rope": {}}}`,
	quay + "after":  `{"id": "after", "version": "1.0.0", "installsAfter": ["` + quay + `tide", "` + quay + `gone"]}`,
	quay + "buoy":   `{"id": "float", "version": "1.0.0", "legacyIds": ["buoy"]}`,
	quay + "old":    `{"id": "old", "version": "1.0.0", "deprecated": true}`,
	quay + "left":   `{"id": "left", "version": "1.0.0", "dependsOn": {"` + quay + `right": {}}}`,
	quay + "right":  `{"id": "right", "version": "1.0.0", "dependsOn": {"` + quay + `left": {}}}`,
	quay + "asks":   `{"id": "asks", "version": "1.0.0", "installsAfter": ["` + quay + `buoy"]}`,
}

func withFeatures(t *testing.T, features, rest string, more map[string]string, o Options) *Report {
	t.Helper()
	files := fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(`{"image": "base:12", "features": ` + features + rest + `}`)}}
	for name, text := range more {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	if o.Artifacts == nil {
		o.Artifacts = skerry
	}
	o.Folder = "/srv/skerry/timetable"
	return Read(t.Context(), files, o)
}

func orderOf(r *Report) string {
	var list []string
	for _, f := range r.Features {
		list = append(list, strings.TrimPrefix(f.Reference, quay))
	}
	return strings.Join(list, " ")
}

func codes(r *Report) (list []string) {
	for _, p := range r.Problems {
		list = append(list, p.Code)
	}
	return list
}

func TestInstallationOrder(t *testing.T) {
	q := func(ids ...string) string {
		for i, id := range ids {
			ids[i] = `"` + quay + id + `": {}`
		}
		return "{" + strings.Join(ids, ", ") + "}"
	}
	cases := map[string]struct{ features, rest, want string }{
		"by name":                              {q("tide", "rope"), "", "rope tide"},
		"what is needed comes first":           {q("anchor"), "", "rope anchor"},
		"once, though two ask for it":          {q("anchor", "rope"), "", "rope anchor"},
		"soft, when it is there":               {q("after", "tide"), "", "tide after"},
		"soft, when it is not":                 {q("after"), "", "after"},
		"soft, by an older name":               {q("asks", "buoy"), "", "buoy asks"},
		"a priority wins":                      {q("rope", "tide"), `, "overrideFeatureInstallOrder": ["` + quay + `tide"]`, "tide rope"},
		"a priority does not pass over a need": {q("anchor", "tide"), `, "overrideFeatureInstallOrder": ["` + quay + `anchor"]`, "rope tide anchor"},
		"from the oldest version to latest":    {q("rope:10", "rope:2", "rope"), "", "rope:10"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, orderOf(withFeatures(t, c.features, c.rest, nil, Options{})))
		})
	}
}

// The same feature with other options is another one; versions and options order them.
func TestOrderInsideARound(t *testing.T) {
	r := withFeatures(t, `{"`+quay+`tide:2": {"port": "south"}, "`+quay+`tide": {}, "`+quay+`tide:1.10": {"port": "north"}, "`+quay+`tide:1.9": "x"}`, "", nil, Options{})
	assert.Equal(t, "tide:1.9 tide:2 tide", orderOf(r), "the same content with the same options is one feature")
	nodes := []*node{
		{ref: Reference{Name: "a"}, given: map[string]any{"x": "2"}}, {ref: Reference{Name: "a"}, given: map[string]any{"x": "1"}},
		{ref: Reference{Name: "a"}, given: map[string]any{}}, {ref: Reference{Name: "a"}, given: map[string]any{"x": "1", "y": "1"}},
		{ref: Reference{Name: "a"}, given: map[string]any{"a": "9"}},
	}
	ordered, stuck := order(nodes)
	assert.Empty(t, stuck)
	assert.Equal(t, []*node{nodes[3], nodes[4], nodes[1], nodes[0], nodes[2]}, ordered, "most options first, then their names, then their values")
}

func TestACircleNamesItsMembers(t *testing.T) {
	r := withFeatures(t, `{"`+quay+`left": {}}`, "", nil, Options{})
	require.Equal(t, []string{"feature-cycle"}, codes(r))
	p := r.Problems[0]
	assert.Contains(t, p.Message, quay+"left → "+quay+"right → "+quay+"left")
	assert.Equal(t, 1, p.Line)
	assert.Equal(t, "/features/registry.skerry.test~1skerry~1left", p.Path)
}

// Local features are never equal: a graph of them that branches everywhere would grow
// without end.
func TestAHostileGraphEnds(t *testing.T) {
	more := map[string]string{}
	for i := range 20 {
		name := string(rune('a' + i))
		depends := ""
		if i < 19 {
			next := string(rune('a' + i + 1))
			depends = `, "dependsOn": {"./` + next + `": {}, "./` + next + `/": {}}`
		}
		more[".devcontainer/"+name+"/devcontainer-feature.json"] = `{"id": "` + name + `", "version": "1.0.0"` + depends + `}`
		more[".devcontainer/"+name+"/install.sh"] = "true"
	}
	r := withFeatures(t, `{"./a": {}}`, "", more, Options{})
	assert.Contains(t, codes(r), "too-many-features")
}

func TestOptionsAreJudged(t *testing.T) {
	cases := map[string]struct {
		features, code, suggestion string
		column                     int
	}{
		"not in the closed list": {`{"` + quay + `tide": {"port": "nort"}}`, "bad-option", "north", 80},
		"wrong type":             {`{"` + quay + `tide": {"port": true}}`, "bad-option", `"true"`, 80},
		"unknown":                {`{"` + quay + `tide": {"prot": "north"}}`, "unknown-option", "port", 72},
		"none at all":            {`{"` + quay + `rope": {"x": "y"}}`, "unknown-option", "", 72},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			r := withFeatures(t, c.features, "", nil, Options{})
			require.Len(t, r.Problems, 1)
			assert.Equal(t, c.code, r.Problems[0].Code)
			assert.Equal(t, c.suggestion, r.Problems[0].Suggestion)
			assert.Equal(t, c.column, r.Problems[0].Column)
		})
	}
	f := withFeatures(t, `{"`+quay+`tide": "south"}`, "", nil, Options{}).Features[0]
	assert.Equal(t, map[string]string{"PORT": "north", "VERSION": "south"}, f.Env, "a string stands for the option version")
}

func TestOptionNamesBecomeVariables(t *testing.T) {
	for name, want := range map[string]string{"port": "PORT", "2fast": "_FAST", "__x": "_X", "a-b.c": "A_B_C", "42": "_", "grün": "GR_N"} {
		assert.Equal(t, want, environmentName(name), name)
	}
}

func TestFeaturesThatCannotBeHad(t *testing.T) {
	cases := map[string]struct {
		features string
		more     map[string]string
		code     string
	}{
		"not in the registry":   {`{"` + quay + `lighthouse": {}}`, nil, "feature-not-found"},
		"no reference":          {`{"Tide": {}}`, nil, "bad-reference"},
		"http":                  {`{"http://skerry.test/devcontainer-feature-tide.tgz": {}}`, nil, "bad-reference"},
		"no folder":             {`{"./tide": {}}`, nil, "feature-not-found"},
		"leads out":             {`{"../../tide": {}}`, nil, "feature-not-found"},
		"beside .devcontainer":  {`{"../tide": {}}`, map[string]string{"tide/devcontainer-feature.json": `{"id": "tide", "version": "1.0.0"}`, "tide/install.sh": ""}, "feature-not-found"},
		"no script":             {`{"./tide": {}}`, map[string]string{".devcontainer/tide/devcontainer-feature.json": `{"id": "tide", "version": "1.0.0"}`}, "feature-incomplete"},
		"no metadata":           {`{"./tide": {}}`, map[string]string{".devcontainer/tide/install.sh": ""}, "feature-incomplete"},
		"metadata with a fault": {`{"./tide": {}}`, map[string]string{".devcontainer/tide/devcontainer-feature.json": `{"id": "tide", "version": 1}`, ".devcontainer/tide/install.sh": ""}, "wrong-type"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			r := withFeatures(t, c.features, "", c.more, Options{})
			assert.Contains(t, codes(r), c.code)
			assert.True(t, r.HasErrors())
		})
	}
	assert.Contains(t, codes(withFeatures(t, `{"`+quay+`old": {}}`, "", nil, Options{})), "deprecated-feature")
	r := withFeatures(t, `{"`+quay+`buoy": {}}`, "", nil, Options{})
	require.Equal(t, []string{"legacy-id"}, codes(r))
	assert.Equal(t, quay+"float", r.Problems[0].Suggestion)
}

type away struct{ err error }

func (a away) Feature(context.Context, Reference, string) (Artifact, error) { return Artifact{}, a.err }

func TestARegistryThatIsAwayIsToldAsPassing(t *testing.T) {
	down := fault.Transient(errors.New("503"), "registry-down", "", "the registry does not answer")
	r := withFeatures(t, `{"`+quay+`tide": {}}`, "", nil, Options{Artifacts: away{down}})
	assert.ErrorIs(t, r.Transient, down)
	r = withFeatures(t, `{"`+quay+`tide:1": {}}`, "", nil, Options{Artifacts: away{ErrOffline}})
	assert.Equal(t, []string{"feature-not-at-hand"}, codes(r))
	assert.False(t, r.HasErrors(), "not to know is no fault of the definition")
	assert.Equal(t, "tide:1", orderOf(r))
}

func TestLocksPinAndAreChecked(t *testing.T) {
	definition := `{"` + quay + `anchor:1": {}, "./buoy": {}}`
	buoy := map[string]string{".devcontainer/buoy/devcontainer-feature.json": `{"id": "buoy", "version": "1.0.0"}`, ".devcontainer/buoy/install.sh": ""}
	free := withFeatures(t, definition, "", buoy, Options{Images: imageShelf{"base:12": "base@sha256:" + strings.Repeat("1", 64)}})
	assert.Len(t, free.Floating, 3, "the image and two features; the local one cannot change by itself")
	features, images, err := free.LockFiles()
	require.NoError(t, err)
	assert.Contains(t, string(features), `"dependsOn"`)
	assert.NotContains(t, string(features), "buoy")

	buoy[".devcontainer/devcontainer-lock.json"], buoy[".devcontainer/domicile-lock.json"] = string(features), string(images)
	locked := withFeatures(t, definition, "", buoy, Options{})
	assert.Empty(t, locked.Floating)
	assert.Empty(t, locked.Problems)
	assert.Equal(t, "base@sha256:"+strings.Repeat("1", 64), locked.Images[0].Resolved, "without asking anybody")
	assert.NotEqual(t, free.Digest, locked.Digest, "the locks are inputs")
	again, _, err := locked.LockFiles()
	require.NoError(t, err)
	assert.Equal(t, string(features), string(again))

	buoy[".devcontainer/devcontainer-lock.json"] = strings.ReplaceAll(string(features), free.Features[2].Digest, "sha256:"+strings.Repeat("0", 64))
	changed := withFeatures(t, definition, "", buoy, Options{})
	assert.Contains(t, codes(changed), "lock-mismatch")
	buoy[".devcontainer/devcontainer-lock.json"] = `{"features": {"` + quay + `gone": {"resolved": "x@sha256:` + strings.Repeat("0", 64) + `"}, "` + quay + `anchor:1": {"version": "1"}}}`
	stale := withFeatures(t, definition, "", buoy, Options{})
	assert.Contains(t, codes(stale), "stale-lock")
	assert.Contains(t, codes(stale), "bad-lock")
}

type imageShelf map[string]string

func (s imageShelf) Image(_ context.Context, reference string) (ImageFacts, error) {
	return ImageFacts{Resolved: s[reference]}, nil
}

func TestReferences(t *testing.T) {
	good := map[string]Reference{
		"r.test/a/b":      {Kind: ReferenceOCI, Name: "r.test/a/b", ID: "b", Tag: "latest"},
		"r.test:5000/b:1": {Kind: ReferenceOCI, Name: "r.test:5000/b", ID: "b", Tag: "1"},
		"localhost/a/b@sha256:" + strings.Repeat("a", 64): {Kind: ReferenceOCI, Name: "localhost/a/b", ID: "b", Digest: "sha256:" + strings.Repeat("a", 64)},
		"./x/": {Kind: ReferenceLocal, Name: "./x", ID: "x"},
		"https://s.test/v1/devcontainer-feature-tide.tgz": {Kind: ReferenceArchive, Name: "https://s.test/v1/devcontainer-feature-tide.tgz", ID: "tide"},
	}
	for text, want := range good {
		want.Written = text
		got, err := ParseReference(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "tide", "skerry/tide", "r.test/A/b", "r.test/a/b@sha256:12", "r.test/a/b:x y", "/etc/x", "./", "https://s.test/x.tgz", "ftp://s.test/devcontainer-feature-a.tgz", "r.test/a//b"} {
		_, err := ParseReference(text)
		assert.Error(t, err, text)
	}
}

func TestFilesOfAFeatureDecideItsDigest(t *testing.T) {
	tree := func(mode fs.FileMode) string {
		d, err := TreeDigest(fstest.MapFS{"install.sh": {Data: []byte("x"), Mode: mode}}, nil)
		require.NoError(t, err)
		return d
	}
	assert.NotEqual(t, tree(0o644), tree(0o755))
	assert.Equal(t, tree(0o600), tree(0o644), "who may read it differs from clone to clone")
}

// What is wrong in a feature's own file is told there, at its line.
func TestAFeaturesOwnFileAtItsLine(t *testing.T) {
	for name, c := range map[string]struct {
		metadata string
		line     int
		code     string
	}{
		"id":                {"{\"version\": \"1.0.0\",\n\"id\": \"ebb\"}", 2, "wrong-id"},
		"no id":             {"\n{\"version\": \"1.0.0\"}", 2, "missing-property"},
		"out of its enum":   {"{\"id\": \"tide\", \"version\": \"1.0.0\",\n\"options\": {\"level\": {\"type\": \"string\", \"enum\": [\"low\", \"high\"],\n\"default\": \"hihg\"}}}", 3, "bad-default"},
		"neither":           {"{\"id\": \"tide\", \"version\": \"1.0.0\",\n\"options\": {\"deep\": {\"type\": \"boolean\",\n\n\"default\": \"very\"}}}", 4, "bad-default"},
		"depends on what":   {"{\"id\": \"tide\", \"version\": \"1.0.0\",\n\"dependsOn\": {\n\"Not A Reference\": {}}}", 3, "bad-reference"},
		"depends on a list": {"{\"id\": \"tide\", \"version\": \"1.0.0\",\n\"dependsOn\": []}", 2, "wrong-type"},
	} {
		t.Run(name, func(t *testing.T) {
			r := withFeatures(t, `{"./tide": {}}`, "", map[string]string{".devcontainer/tide/devcontainer-feature.json": c.metadata, ".devcontainer/tide/install.sh": ""}, Options{})
			i := slices.IndexFunc(r.Problems, func(p Problem) bool { return p.Code == c.code })
			require.GreaterOrEqual(t, i, 0, codes(r))
			assert.Equal(t, fmt.Sprintf(".devcontainer/tide/devcontainer-feature.json:%d", c.line), fmt.Sprintf("%s:%d", r.Problems[i].File, r.Problems[i].Line), r.Problems[i].Message)
		})
	}
}

func TestALockThatContradictsItself(t *testing.T) {
	one, other := strings.Repeat("1", 64), strings.Repeat("2", 64)
	r := withFeatures(t, `{"`+quay+`anchor:1": {}}`, "", map[string]string{".devcontainer/devcontainer-lock.json": "{\"features\": {\"" + quay + "anchor:1\": {\n\"resolved\": \"" + quay + "anchor@sha256:" + one + "\",\n\"integrity\": \"sha256:" + other + "\"}}}"}, Options{})
	i := slices.IndexFunc(r.Problems, func(p Problem) bool { return p.Code == "bad-lock" })
	require.GreaterOrEqual(t, i, 0, codes(r))
	assert.Equal(t, 3, r.Problems[i].Line)
	assert.Contains(t, r.Problems[i].Message, "two different contents")
}
