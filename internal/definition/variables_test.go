package definition

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestVariables(t *testing.T) {
	lookup := func(name string) (string, bool) {
		v, ok := map[string]string{"QUAY": "north", "EMPTY": "", "TRICKY": "${localEnv:QUAY}"}[name]
		return v, ok
	}
	v := &Variables{LocalFolder: "/srv/skerry/timetable", ContainerFolder: "/src/deck", ID: "id", LocalEnvironment: lookup}
	cases := map[string]string{
		"":                                    "",
		"plain $HOME {x}":                     "plain $HOME {x}",
		"${localEnv:QUAY}":                    "north",
		"a${localEnv:QUAY}b${localEnv:QUAY}":  "anorthbnorth",
		"${localEnv:GONE}":                    "",
		"${localEnv:GONE:south}":              "south",
		"${localEnv:EMPTY:south}":             "",
		"${localEnv:GONE:a:b}":                "a:b",
		"${localEnv:TRICKY}":                  "${localEnv:QUAY}", // what was put in is not looked at again
		"${localWorkspaceFolder}":             "/srv/skerry/timetable",
		"${localWorkspaceFolderBasename}":     "timetable",
		"${containerWorkspaceFolder}/x":       "/src/deck/x",
		"${containerWorkspaceFolderBasename}": "deck",
		"${devcontainerId}":                   "id",
		"${containerEnv:PATH}":                "${containerEnv:PATH}",
		"${other}${localEnv}":                 "${other}${localEnv}",
		"${localEnv:QUAY":                     "${localEnv:QUAY",
		"$${localEnv:QUAY}}":                  "$north}",
	}
	for in, want := range cases {
		assert.Equal(t, want, v.Replace(in), in)
	}
	v.ContainerEnvironment = lookup
	assert.Equal(t, "north and none", v.Replace("${containerEnv:QUAY} and ${containerEnv:GONE:none}"))
}

func TestID(t *testing.T) {
	labels := map[string]string{"devcontainer.local_folder": "/srv/skerry/timetable", "devcontainer.config_file": "/srv/skerry/timetable/.devcontainer/devcontainer.json"}
	assert.Equal(t, "1bd5m1rj2j9o8c3drgihn0rq8ceh243s3m4f7j2ja0hmn65abbj7", ID(labels), "the standard's example")
	assert.Len(t, ID(nil), 52)
	assert.NotContains(t, ID(map[string]string{"a": "<&>"}), "w", "digits are 0-9a-v")
}

func FuzzVariables(f *testing.F) {
	f.Add("${localEnv:A:b}${containerWorkspaceFolder}")
	f.Add("${${}}")
	f.Fuzz(func(t *testing.T, s string) {
		v := &Variables{LocalFolder: "/a", LocalEnvironment: func(string) (string, bool) { return "", false }}
		out := v.Replace(s)
		if !strings.Contains(s, "${") && out != s {
			t.Fatalf("%q has no variable and became %q", s, out)
		}
	})
}

func FuzzParseText(f *testing.F) {
	f.Add([]byte("{\"image\": \"a\", // why\n \"forwardPorts\": [1,],}"))
	f.Add([]byte("\xef\xbb\xbf{}"))
	f.Add([]byte("[[[[\"\\\"]"))
	f.Fuzz(func(t *testing.T, b []byte) {
		text, err := ParseText("f", b)
		if err == nil && text.Root == nil {
			t.Fatal("neither a value nor an error")
		}
		if err == nil {
			at := text.Position(text.Root.Offset)
			if at.Line < 1 || at.Column < 1 {
				t.Fatalf("place %v", at)
			}
		}
	})
}

func FuzzMount(f *testing.F) {
	f.Add("type=bind,source=/a,target=/b,readonly")
	f.Fuzz(func(t *testing.T, s string) {
		if m, err := ParseMount(s); err == nil && m.Target == "" {
			t.Fatalf("%q gave a mount without target", s)
		}
	})
}
