package definition

import (
	"encoding/json"
	"fmt"
	"path"
	"reflect"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func effective(t *testing.T, text string) *Effective {
	t.Helper()
	r := Read(t.Context(), fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(text)}}, Options{Folder: "/workspaces/deck"})
	require.NotNil(t, r.Effective, "%v", r.Problems)
	return r.Effective
}

// A property with other letters is another property, wherever it stands.
func TestNamesAreExact(t *testing.T) {
	e := effective(t, `{"image": "base:12", "Image": "other", "REMOTEUSER": "x", "hostRequirements": {"CPUS": 9, "memory": "1gb"}, "portsAttributes": {"3000": {"Label": "x", "protocol": "http"}}, "otherPortsAttributes": {"onautoforward": "silent"}, "ContainerEnv": {"A": "b"}, "containerEnv": {"a": "1", "A": "2"}}`)
	assert.Equal(t, "base:12", e.Image)
	assert.Empty(t, e.RemoteUser)
	assert.Zero(t, e.HostRequirements.CPUs)
	assert.Equal(t, "1gb", e.HostRequirements.Memory)
	assert.Empty(t, e.PortsAttributes["3000"].Label)
	assert.Equal(t, "http", e.PortsAttributes["3000"].Protocol)
	assert.Equal(t, map[string]string{"a": "1", "A": "2"}, e.ContainerEnv)
}

func TestEmptyCommandsAreNone(t *testing.T) {
	for _, nothing := range []string{`""`, `"  "`, `[]`, `{}`, `{"a": ""}`, `{"a": [], "b": " "}`} {
		for _, stage := range append([]string{"initializeCommand"}, Lifecycle...) {
			assert.Empty(t, effective(t, `{"image": "x", "`+stage+`": `+nothing+`}`).Stage(stage), "%s: %s", stage, nothing)
		}
	}
	e := effective(t, `{"image": "x", "postCreateCommand": {"a": "", "b": "make"}}`)
	require.Len(t, e.PostCreateCommand, 1)
	parts, err := e.PostCreateCommand[0].Parts()
	require.NoError(t, err)
	assert.Equal(t, []Part{{Name: "b", Shell: "make"}}, parts)
}

// What the builder would refuse after minutes is told by reading.
func TestInstructionsAreUnderstood(t *testing.T) {
	for text, want := range map[string]string{
		"FROM base:12\nRUNN echo\n":                        "2 unknown instruction: RUNN",
		"FROM base:12\nRUN echo\nCOPY\n":                   "3 COPY requires at least two arguments",
		"FROM base:12\nHEALTHCHECK x\n":                    "2 Unknown type",
		"FROM base:12\nENV a\n":                            "2 this is no valid Dockerfile: ENV must have two arguments",
		"FROM base:12\nUSER\n":                             "2 USER requires exactly one argument",
		"FROM base:12\nRUN <<EOF\necho here\nEOF\nCMD x\n": "",
	} {
		r := Read(t.Context(), fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(`{"dockerFile": "Dockerfile", "build": {"args": {"V": "1"}, "target": "", "cacheFrom": "x"}}`)}, ".devcontainer/Dockerfile": {Data: []byte(text)}}, Options{Folder: "/workspaces/deck"})
		var told []string
		for _, p := range r.Problems {
			if p.Severity == Error {
				told = append(told, fmt.Sprintf("%d %s", p.Line, p.Message))
			}
		}
		if want == "" {
			assert.Empty(t, told, text)
			continue
		}
		if assert.Len(t, told, 1, text) {
			assert.Contains(t, told[0], want)
		}
	}
}

// The label of the image that is built counts as that of one which is named.
func TestALabelOfTheDockerfileItself(t *testing.T) {
	for name, c := range map[string]struct{ text, user string }{
		"its own":           {"FROM base:12\nLABEL devcontainer.metadata='[{\"remoteUser\": \"crew\"}]'\n", "crew"},
		"among others":      {"FROM base:12\nLABEL a=b devcontainer.metadata=\"[{\\\"remoteUser\\\": \\\"crew\\\"}]\" c=d\n", "crew"},
		"with an argument":  {"ARG U=nobody\nFROM base:12\nARG U=crew\nLABEL devcontainer.metadata=\"{\\\"remoteUser\\\": \\\"$U\\\"}\"\n", "crew"},
		"of its stage":      {"FROM base:12 AS hull\nLABEL devcontainer.metadata='{\"remoteUser\": \"crew\"}'\nFROM hull\n", "crew"},
		"of another":        {"FROM base:12 AS hull\nLABEL devcontainer.metadata='{\"remoteUser\": \"crew\"}'\nFROM base:12\n", "deck"},
		"behind the target": {"FROM base:12 AS hull\nFROM hull AS other\nLABEL devcontainer.metadata='{\"remoteUser\": \"crew\"}'\n", "deck"},
		"the base's":        {"FROM base:12\n", "deck"},
	} {
		t.Run(name, func(t *testing.T) {
			target := ""
			if strings.Contains(c.text, " AS other") {
				target = `, "target": "hull"`
			}
			r := Read(t.Context(), fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(`{"build": {"dockerfile": "Dockerfile"` + target + `}}`)}, ".devcontainer/Dockerfile": {Data: []byte(c.text)}},
				Options{Folder: "/src", ImageMetadata: []byte(`[{"remoteUser": "deck"}]`)})
			require.False(t, r.HasErrors(), "%v", r.Problems)
			assert.Equal(t, c.user, r.Effective.RemoteUser)
		})
	}
}

// Who the engine's flags name is who the container runs as.
func TestTheUserOfEngineFlags(t *testing.T) {
	for args, want := range map[string]string{`"--user=crew"`: "crew", `"--user", "crew"`: "crew", `"-u", "crew"`: "crew", `"-ucrew"`: "crew", `"-u=crew"`: "crew", `"--user", "other", "-u", "crew"`: "crew", `"--user=other", "-u", "crew"`: "crew", `"--user=crew", "--init"`: "crew", `"--ulimit", "nofile=1"`: "deck", `"--user"`: "deck"} {
		assert.Equal(t, want, effective(t, `{"image": "x", "containerUser": "deck", "runArgs": [`+args+`]}`).ContainerUser, args)
	}
}

// What is said to have no effect has none, whatever the program calls its own fields.
func TestWhatIsNoPropertyHasNoEffect(t *testing.T) {
	read := func(text string) (*Report, string) {
		r := Read(t.Context(), fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(text)}, ".devcontainer/Dockerfile": {Data: []byte("FROM base:12\n")}}, Options{Folder: "/workspaces/deck"})
		require.NotNil(t, r.Effective, "%v", r.Problems)
		b, err := json.Marshal(r.Effective)
		require.NoError(t, err)
		return r, string(b)
	}
	_, plain := read(`{"build": {"dockerfile": "Dockerfile"}}`)
	tried := 0
	for of, form := range map[reflect.Type]string{reflect.TypeFor[Effective](): `{"build": {"dockerfile": "Dockerfile"}, %q: %s}`, reflect.TypeFor[Build](): `{"build": {"dockerfile": "Dockerfile", %q: %s}}`} {
		for i := range of.NumField() {
			name, _, _ := strings.Cut(of.Field(i).Tag.Get("json"), ",")
			for _, value := range []string{`"x"`, `["x"]`, `{"x": "docker-image://y"}`, `7`, `true`} {
				r, effective := read(fmt.Sprintf(form, name, value))
				if slices.ContainsFunc(r.Problems, func(p Problem) bool {
					return strings.Contains(p.Message, "it has no effect") && path.Base(p.Path) == name
				}) {
					assert.Equal(t, plain, effective, "%s: %s", name, value)
					assert.Len(t, r.Images, 1, name)
					assert.NotContains(t, string(r.Metadata[0]), name, "nor in the label of what is built")
					tried++
				}
			}
		}
	}
	assert.Positive(t, tried)
}
