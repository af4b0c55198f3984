package definition

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestQuestionsNobodySees(t *testing.T) {
	asks := []string{"apt-get install curl", "sudo apt-get update && apt-get install git", "if true; then apt install x; fi", "read name", "npm init", "npx thing", "ssh-keygen -t ed25519",
		"DEBIAN_FRONTEND=readline apt-get install -y tzdata", "bash -lc 'apt-get install x'", "dnf install x", "dpkg-reconfigure locales", "git commit", "openssl req -new", "select x in a b; do echo $x; done", "rm -i x",
		"for f in *; do read answer; done", "apt-get -o Debug=1 install x"}
	for _, script := range asks {
		assert.NotEmpty(t, questions([]byte(script), false), script)
	}
	quiet := []string{"apt-get install -y curl", "apt-get -qqy install curl", "apt-get install -qq x", "apt-get update", "yes | apt-get install x", "while read line; do echo $line; done < list", "cat list | while read l; do :; done",
		"read name < file", "read -t 1 x", "npm init -y", "npx --yes thing", "ssh-keygen -N '' -f k", "export DEBIAN_FRONTEND=noninteractive; apt-get install -y tzdata", "git commit -m x", "apt-get install $FLAGS x",
		"echo 'apt-get install x'", "f() { read x; }", "read x <<< y", "not a ( shell script", "npm ci"}
	for _, script := range quiet {
		assert.Empty(t, questions([]byte(script), false), script)
	}
}

func TestQuestionsStandAtTheirLine(t *testing.T) {
	files := fstest.MapFS{
		".devcontainer/devcontainer.json": {Data: []byte("{\n  \"build\": {\"dockerfile\": \"Dockerfile\"},\n  \"onCreateCommand\": {\"a\": \"true\",\n    \"b\": \"apt-get install x\"},\n  \"postCreateCommand\": \"bash ./scripts/setup.sh\"\n}")},
		".devcontainer/Dockerfile":        {Data: []byte("FROM base:12\nRUN apt-get update \\\n  # what is needed\n  && apt-get install \\\n     curl\nENV DEBIAN_FRONTEND=noninteractive\nRUN apt-get install -y tzdata\nRUN [\"apt-get\", \"install\", \"x\"]\nRUN <<EOF\ntrue\nread x\nEOF\n")},
		"scripts/setup.sh":                {Data: []byte("#!/bin/sh\necho hello\n  read name\n")},
	}
	r := Read(t.Context(), files, Options{Folder: "/x"})
	var places []string
	for _, p := range r.Problems {
		if p.Code == "asks-a-question" {
			assert.Equal(t, Warning, p.Severity)
			assert.NotEmpty(t, p.Suggestion)
			places = append(places, strings.TrimSuffix(strings.SplitAfterN(p.String(), ":", 3)[0]+strings.SplitAfterN(p.String(), ":", 3)[1], ":"))
		}
	}
	assert.Equal(t, []string{".devcontainer/Dockerfile:4", ".devcontainer/Dockerfile:8", ".devcontainer/Dockerfile:11", ".devcontainer/devcontainer.json:4", "scripts/setup.sh:3"}, places)
}

func TestImagesOfADockerfile(t *testing.T) {
	text := "# syntax=docker/dockerfile:1\nARG BASE=base:12\nARG TAG\nFROM golang:${TAG:-1.24} AS build\nRUN --mount=type=bind,from=tools:3,target=/t true\nFROM build AS again\nCOPY --from=again /a /b\nCOPY --from=other:9 /c /d\nFROM ${BASE} as Final\nUSER crew\nFROM scratch AS never\n"
	d, problems := readDockerfile("Dockerfile", []byte(text), &Build{Args: map[string]string{"BASE": "mine:1"}, Target: "final"})
	assert.Empty(t, problems)
	var names []string
	for _, i := range d.images {
		names = append(names, i.Reference)
	}
	assert.Equal(t, []string{"golang:1.24", "tools:3", "other:9", "mine:1"}, names)
	assert.Equal(t, "mine:1", d.base)
	assert.Equal(t, "crew", d.user)
	assert.Equal(t, 8, d.images[2].Line)
	for name, c := range map[string]struct{ text, target, code string }{
		"no FROM":       {"RUN true\n", "", "bad-dockerfile"},
		"empty":         {"", "", "bad-dockerfile"},
		"not known":     {"FROM x\nRUN <<EOF\n", "", "bad-dockerfile"},
		"no value":      {"ARG X\nFROM $X\n", "", "bad-dockerfile"},
		"no such stage": {"FROM x AS final\n", "finl", "unknown-target"},
	} {
		_, problems := readDockerfile("Dockerfile", []byte(c.text), &Build{Target: c.target})
		require.NotEmpty(t, problems, name)
		assert.Equal(t, c.code, problems[0].Code, name)
	}
}

func TestTheDigestIsOverAllThatWasRead(t *testing.T) {
	base := func() fstest.MapFS {
		return fstest.MapFS{
			".devcontainer/devcontainer.json": {Data: []byte(`{"build": {"dockerfile": "Dockerfile", "context": ".."}, "name": "a", "features": {"./f": {"x": "1"}}}`)},
			".devcontainer/Dockerfile":        {Data: []byte("FROM base\nCOPY . /src\n")}, ".dockerignore": {Data: []byte("*.log\ntmp\n!tmp/keep\n")},
			"src/main.c": {Data: []byte("x")}, "a.log": {Data: []byte("1")}, "tmp/x": {Data: []byte("1")}, "tmp/keep": {Data: []byte("1")}, ".git/HEAD": {Data: []byte("1")},
			".devcontainer/f/devcontainer-feature.json": {Data: []byte(`{"id": "f", "version": "1.0.0", "options": {"x": {"type": "string"}}}`)}, ".devcontainer/f/install.sh": {Data: []byte("true")},
		}
	}
	digest := func(change func(fstest.MapFS), folder string) string {
		files := base()
		if change != nil {
			change(files)
		}
		r := Read(t.Context(), files, Options{Folder: folder})
		require.False(t, r.HasErrors(), "%v", r.Problems)
		return r.Digest
	}
	text := func(name, content string) func(fstest.MapFS) {
		return func(files fstest.MapFS) { files[name] = &fstest.MapFile{Data: []byte(content)} }
	}
	first := digest(nil, "/srv/a")
	same := map[string]func(fstest.MapFS){
		"comments, spacing and the order of names": text(".devcontainer/devcontainer.json", "{ // x\n \"features\": {\"./f\": {\"x\": \"1\"}}, \"name\": \"a\",\n\"build\": {\"context\": \"..\", \"dockerfile\": \"Dockerfile\"},}"),
		"what is ignored":                          text("a.log", "2"),
		"ignored in a folder":                      text("tmp/x", "2"),
		"the repository's .git":                    text(".git/HEAD", "2"),
	}
	for name, change := range same {
		assert.Equal(t, first, digest(change, "/elsewhere/b"), name)
	}
	for name, change := range map[string]func(fstest.MapFS){
		"a file of the context": text("src/main.c", "y"), "a new file": text("src/new", ""), "taken back by the ignore file": text("tmp/keep", "2"),
		"the Dockerfile": text(".devcontainer/Dockerfile", "FROM base\n"), "a feature's script": text(".devcontainer/f/install.sh", "false"),
		"the definition": text(".devcontainer/devcontainer.json", `{"build": {"dockerfile": "Dockerfile", "context": ".."}, "name": "b", "features": {"./f": {"x": "1"}}}`),
		"the right to run": func(files fstest.MapFS) {
			files["src/main.c"] = &fstest.MapFile{Data: []byte("x"), Mode: 0o755}
		},
		"the ignore file": text(".dockerignore", "*.log\n"),
	} {
		assert.NotEqual(t, first, digest(change, "/srv/a"), name)
	}
}

func TestOrigins(t *testing.T) {
	r := withFeatures(t, `{"./f": {}}`, `, "remoteEnv": {"A": "1"}, "capAdd": ["B"], "init": true, "forwardPorts": [1, 2]`, map[string]string{
		".devcontainer/f/devcontainer-feature.json": `{"id": "f", "version": "1.0.0", "capAdd": ["A", "B"], "init": true, "containerEnv": {"X": "1"}}`, ".devcontainer/f/install.sh": ""},
		Options{ImageMetadata: []byte(`[{"remoteUser": "crew", "forwardPorts": [2]}]`)})
	for at, want := range map[string]string{"/remoteUser": "image", "/remoteEnv/A": "definition", "/capAdd/0": "./f", "/capAdd/1": "./f", "/init": "./f", "/containerEnv/X": "./f",
		"/forwardPorts/0": "image", "/forwardPorts/1": "definition", "/waitFor": "default", "/workspaceFolder": "default", "/image": "definition"} {
		assert.Equal(t, want, r.Origins[at], at)
	}
}

func TestDomicilesOwnPart(t *testing.T) {
	r := read(`{"image": "a", "customizations": {"domicile": {"checks": {"python": {"command": "python3 --version", "atLeast": "3.11", "atMost": "3.12"}, "quick": "true"},
		"tasks": {"test": {"command": ["make", "test"], "after": "build", "description": "All tests"}, "build": "make"}, "idleStop": "90m", "size": "small"}}}`)
	require.Empty(t, r.Problems)
	assert.Equal(t, []Task{{Name: "test", Command: []byte(`["make","test"]`), After: []string{"build"}, Description: "All tests"}, {Name: "build", Command: []byte(`"make"`)}}, r.Domicile.Tasks)
	for text, code := range map[string]string{
		`{"checks": {"a": {}}}`: "missing-property", `{"checks": {"a": {"command": "x", "atLeast": "new"}}}`: "bad-version", `{"checks": {"a": {"command": "x", "matches": "("}}}`: "bad-pattern",
		`{"tasks": {"a": {"command": "x", "after": "b"}}}`: "unknown-task", `{"tasks": {"a": {"command": "x", "after": "b"}, "b": {"command": "x", "after": ["a"]}}}`: "task-cycle",
		`{"idleStop": "soon"}`: "bad-duration", `{"idleStop": "1s"}`: "bad-duration", `{"tasks": {"../x": "y"}}`: "bad-name", `{"sizes": "x"}`: "unknown-property", `{"checks": {"a": {"command": {"x": "y"}}}}`: "wrong-type",
	} {
		assert.Contains(t, codes(read(`{"image": "a", "customizations": {"domicile": `+text+`}}`)), code, text)
	}
}

func TestChecksHoldOrTellWhatCame(t *testing.T) {
	one := 1
	cases := []struct {
		check           Check
		output          string
		status          int
		ok              bool
		expected, found string
	}{
		{Check{}, "hello\nthere", 0, true, "exit status 0", "hello"},
		{Check{}, "", 2, false, "exit status 0", "exit status 2"},
		{Check{ExitStatus: &one}, "", 1, true, "exit status 1", ""},
		{Check{Equals: "a"}, "a\n", 0, true, `the output "a"`, "a"},
		{Check{Equals: "a"}, "b\n", 0, false, `the output "a"`, `"b"`},
		{Check{Contains: "b"}, "abc", 0, true, `an output that contains "b"`, "abc"},
		{Check{Matches: "^v[0-9]$"}, "v12", 0, false, "an output that matches ^v[0-9]$", `"v12"`},
		{Check{AtLeast: "3.11"}, "Python 3.11.2", 0, true, "a version at least 3.11", "3.11.2"},
		{Check{AtLeast: "3.11"}, "Python 3.9.2", 0, false, "a version at least 3.11", "3.9.2"},
		{Check{AtLeast: "3.9", AtMost: "3.11"}, "Python 3.11.9", 0, true, "a version at least 3.9, at most 3.11", "3.11.9"},
		{Check{AtMost: "3"}, "4.0", 0, false, "a version at most 3", "4.0"},
		{Check{AtLeast: "1"}, "none", 0, false, "a version at least 1", `no version in "none"`},
	}
	for _, c := range cases {
		ok, expected, found := c.check.Holds(c.output, c.status)
		assert.Equal(t, c.ok, ok, "%+v %q", c.check, c.output)
		assert.Equal(t, c.expected, expected)
		assert.Equal(t, c.found, found)
	}
}

func TestVersionsInOrder(t *testing.T) {
	list := []string{"0.9", "1", "1.0.0-rc1", "1.0.0", "1.2", "1.10", "2.0", "latest"}
	for i := range list[1:] {
		assert.Negative(t, CompareVersions(list[i], list[i+1]), "%s < %s", list[i], list[i+1])
		assert.Positive(t, CompareVersions(list[i+1], list[i]))
	}
}
