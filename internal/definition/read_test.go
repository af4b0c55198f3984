package definition

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// read reads a repository that holds this definition and nothing else.
func read(text string) *Report {
	feature := func(name string) *fstest.MapFile {
		return &fstest.MapFile{Data: []byte(`{"id": "` + name + `", "version": "1.0.0", "options": {"version": {"type": "string"}, "x": {"type": "boolean"}}}`)}
	}
	script, image, compose := &fstest.MapFile{Data: []byte("#!/bin/sh\n")}, &fstest.MapFile{Data: []byte("FROM base:12 AS x\n")}, &fstest.MapFile{Data: []byte("services: {}\n")}
	return Read(context.Background(), fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(text)}, ".devcontainer/Dockerfile": image, ".devcontainer/a.yaml": compose,
		".devcontainer/b.yaml": compose, "b.yaml": compose, ".devcontainer/c.yaml": compose,
		".devcontainer/a/devcontainer-feature.json": feature("a"), ".devcontainer/a/install.sh": script, ".devcontainer/b/devcontainer-feature.json": feature("b"),
		".devcontainer/b/install.sh": script, ".devcontainer/c/devcontainer-feature.json": feature("c"), ".devcontainer/c/install.sh": script}, Options{Folder: "/srv/skerry/timetable"})
}

func TestProblemsStandAtTheirPlace(t *testing.T) {
	cases := map[string]struct {
		text string
		want Problem
	}{
		"slip in a name":                {"{\n\"image\": \"a\",\n  \"forwadPorts\": []\n}", Problem{Severity: Warning, Code: "unknown-property", Line: 3, Column: 3, Path: "/forwadPorts", Suggestion: "forwardPorts"}},
		"wrong type":                    {`{"image": 7}`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 11, Path: "/image"}},
		"port too high":                 {`{"image": "a", "forwardPorts": [1, 65536]}`, Problem{Severity: Error, Code: "out-of-range", Line: 1, Column: 36, Path: "/forwardPorts/1"}},
		"port with fraction":            {`{"image": "a", "forwardPorts": [80.5]}`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 33, Path: "/forwardPorts/0"}},
		"bad host port":                 {`{"image": "a", "forwardPorts": ["db:"]}`, Problem{Severity: Error, Code: "bad-port", Line: 1, Column: 33, Path: "/forwardPorts/0"}},
		"closed list":                   {`{"image": "a", "userEnvProbe": "loginshell"}`, Problem{Severity: Error, Code: "not-allowed", Line: 1, Column: 32, Path: "/userEnvProbe", Suggestion: "loginShell"}},
		"inside portsAttributes":        {`{"image": "a", "portsAttributes": {"80": {"labl": "x"}}}`, Problem{Severity: Warning, Code: "unknown-property", Line: 1, Column: 43, Path: "/portsAttributes/80/labl", Suggestion: "label"}},
		"variable not a string":         {`{"image": "a", "containerEnv": {"A": 1}}`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 38, Path: "/containerEnv/A"}},
		"null unsets in remoteEnv only": {`{"image": "a", "remoteEnv": {"A": null}, "containerEnv": {"B": null}}`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 64, Path: "/containerEnv/B"}},
		"command of numbers":            {`{"image": "a", "postCreateCommand": {"x": ["ls", 1]}}`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 50, Path: "/postCreateCommand/x/1"}},
		"mount without target":          {`{"image": "a", "mounts": ["type=volume,source=x"]}`, Problem{Severity: Error, Code: "bad-mount", Line: 1, Column: 27, Path: "/mounts/0"}},
		"unknown mount key":             {`{"image": "a", "mounts": ["type=bind,source=/x,target=/y,propagation=shared"]}`, Problem{Severity: Error, Code: "bad-mount", Line: 1, Column: 27, Path: "/mounts/0"}},
		"bad amount":                    {`{"image": "a", "hostRequirements": {"memory": "8 GB"}}`, Problem{Severity: Error, Code: "bad-amount", Line: 1, Column: 47, Path: "/hostRequirements/memory"}},
		"nothing to come from":          {"\n {}", Problem{Severity: Error, Code: "no-kind", Line: 2, Column: 2, Suggestion: "\"image\": \"…\""}},
		"leads out":                     {`{"build": {"dockerfile": "../../Dockerfile"}}`, Problem{Severity: Error, Code: "outside-repository", Line: 1, Column: 26, Path: "/build/dockerfile"}},
		"no effect":                     {`{"dockerComposeFile": "c.yaml", "service": "a", "runArgs": []}`, Problem{Severity: Warning, Code: "no-effect", Line: 1, Column: 49, Path: "/runArgs"}},
		"service missing":               {`{"dockerComposeFile": "c.yaml"}`, Problem{Severity: Error, Code: "missing-property", Line: 1, Column: 1, Path: "/service"}},
		"half of a pair":                {`{"image": "a", "workspaceMount": "type=volume,target=/x"}`, Problem{Severity: Error, Code: "missing-property", Line: 1, Column: 16, Path: "/workspaceMount"}},
		"stands twice":                  {`{"image": "a", "image": "b"}`, Problem{Severity: Warning, Code: "stands-twice", Line: 1, Column: 16, Path: "/image"}},
		"columns count characters":      {`{"name": "Fähre", "image": 1}`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 28, Path: "/image"}},
		"syntax":                        {"{\n  \"image\": \"a\",,\n}", Problem{Severity: Error, Code: "syntax", Line: 2, Column: 16}},
		"not an object":                 {`[]`, Problem{Severity: Error, Code: "wrong-type", Line: 1, Column: 1}},
		"nested too deep":               {strings.Repeat("[", 10000), Problem{Severity: Error, Code: "syntax", Line: 1, Column: 201}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			r := read(c.text)
			var found []Problem
			for _, p := range r.Problems {
				assert.NotEmpty(t, p.Message)
				assert.Equal(t, ".devcontainer/devcontainer.json", p.File)
				p.Message, p.File, p.Excerpt = "", "", ""
				found = append(found, p)
			}
			assert.Contains(t, found, c.want)
		})
	}
}

func TestAllProblemsInFileOrder(t *testing.T) {
	r := read("{\n\"remoteUser\": 1,\n\"image\": 2,\n\"init\": 3}")
	require.Len(t, r.Problems, 3)
	for i, p := range r.Problems {
		assert.Equal(t, i+2, p.Line)
	}
}

func TestDefaultsAreFilledIn(t *testing.T) {
	e := read(`{"image": "base:12"}`).Effective
	assert.Equal(t, "/workspaces/timetable", e.WorkspaceFolder)
	assert.True(t, *e.OverrideCommand)
	assert.True(t, *e.UpdateRemoteUserUID)
	assert.Equal(t, "stopContainer", e.ShutdownAction)
	assert.Equal(t, "loginInteractiveShell", e.UserEnvProbe)
	assert.Equal(t, "updateContentCommand", e.WaitFor)
	e = read(`{"dockerComposeFile": ["a.yaml", "../b.yaml"], "service": "x"}`).Effective
	assert.Equal(t, "/", e.WorkspaceFolder)
	assert.False(t, *e.OverrideCommand)
	assert.Equal(t, "stopCompose", e.ShutdownAction)
	assert.Equal(t, Texts{".devcontainer/a.yaml", "b.yaml"}, e.DockerComposeFile, "relative to the repository")
}

func TestWhereADefinitionIs(t *testing.T) {
	file := &fstest.MapFile{Data: []byte(`{"image": "a"}`)}
	cases := map[string]struct {
		files fstest.MapFS
		want  []string
	}{
		"usual":       {fstest.MapFS{".devcontainer/devcontainer.json": file}, []string{".devcontainer/devcontainer.json"}},
		"at the root": {fstest.MapFS{".devcontainer.json": file}, []string{".devcontainer.json"}},
		"in order":    {fstest.MapFS{".devcontainer/b/devcontainer.json": file, ".devcontainer/a/devcontainer.json": file, ".devcontainer.json": file}, []string{".devcontainer.json", ".devcontainer/a/devcontainer.json", ".devcontainer/b/devcontainer.json"}},
		"one level":   {fstest.MapFS{".devcontainer/a/b/devcontainer.json": file}, nil},
		"none":        {fstest.MapFS{"README.md": file}, nil},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, Locate(c.files)) })
	}
}

func TestADefinitionThatWasChosen(t *testing.T) {
	file := &fstest.MapFile{Data: []byte(`{"image": "a"}`)}
	files := fstest.MapFS{".devcontainer/a/devcontainer.json": file, ".devcontainer/b/devcontainer.json": file}
	assert.Equal(t, ".devcontainer/b/devcontainer.json", Read(t.Context(), files, Options{File: "./.devcontainer/b/devcontainer.json"}).File)
	for _, bad := range []string{"../etc/passwd", "/etc/passwd", ".devcontainer/c/devcontainer.json", ".devcontainer"} {
		r := Read(t.Context(), files, Options{File: bad})
		assert.True(t, r.HasErrors(), bad)
		assert.Contains(t, r.Problems[0].Message, ".devcontainer/a/devcontainer.json", "the choices are named")
	}
}

func TestDigest(t *testing.T) {
	base := read(`{"image": "a", "containerEnv": {"A": "1", "B": "2"}, "postCreateCommand": {"x": "1", "y": "2"}}`).Digest
	assert.Equal(t, base, read("// why\n{\"containerEnv\": {\"B\": \"2\", \"A\": \"1\",}, \"postCreateCommand\": {\"x\": \"1\", \"y\": \"2\"}, \"image\": \"a\"}").Digest)
	assert.NotEqual(t, base, read(`{"image": "b", "containerEnv": {"A": "1", "B": "2"}, "postCreateCommand": {"x": "1", "y": "2"}}`).Digest)
	assert.NotEqual(t, base, read(`{"image": "a", "containerEnv": {"A": "1", "B": "2"}, "postCreateCommand": {"y": "2", "x": "1"}}`).Digest)
}

func TestAReportWithoutAnythingHasListsAndNoNulls(t *testing.T) {
	b, err := json.Marshal(Read(t.Context(), fstest.MapFS{}, Options{}))
	require.NoError(t, err)
	assert.NotContains(t, string(b), "null")
	assert.Contains(t, string(b), `"features":[]`)
}

func TestPartsOfACommand(t *testing.T) {
	cases := map[string][]Part{
		`"echo a && b"`:                   {{Shell: "echo a && b"}},
		`["echo", "a b"]`:                 {{Args: []string{"echo", "a b"}}},
		`{"z": "one", "a": ["two", "3"]}`: {{Name: "z", Shell: "one"}, {Name: "a", Args: []string{"two", "3"}}},
	}
	for text, want := range cases {
		got, err := Command{Command: json.RawMessage(text)}.Parts()
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := Command{Command: json.RawMessage("7")}.Parts()
	assert.Error(t, err)
}
