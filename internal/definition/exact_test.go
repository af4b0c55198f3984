package definition

import (
	"fmt"
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
