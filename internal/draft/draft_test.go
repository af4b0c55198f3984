package draft

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/demo"
	"domicile/internal/definition"
)

func make1(t *testing.T, texts map[string]string) *Draft {
	t.Helper()
	files := fstest.MapFS{}
	for name, text := range texts {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	d, err := Make(files)
	require.NoError(t, err)
	return d
}

func TestWhatIsSeenAndDrafted(t *testing.T) {
	cases := map[string]struct {
		files map[string]string
		ways  string
		want  []string // in the text of the first way
	}{
		"Go with its version":     {map[string]string{"go.mod": "module x\n\ngo 1.24.1\n", "main.go": "http.ListenAndServe(\":8080\", nil)"}, "go", []string{`"golang:1.24"`, "[8080]", "go mod download"}},
		"Python from its file":    {map[string]string{".python-version": "3.12.1\n", "app.py": "", "requirements.txt": ""}, "python", []string{`"python:3.12.1"`, "pip install -r requirements.txt"}},
		"Node with a lock":        {map[string]string{"package.json": `{"engines": {"node": ">=20"}}`, "package-lock.json": "", "server.js": "app.listen(3000)"}, "javascript", []string{`"node:20"`, `"npm ci"`, "[3000]"}},
		"Ruby, Compose first":     {map[string]string{"compose.yaml": "services:\n  web:\n    build: .\n    ports: [\"80\"]\n", "Gemfile": "ruby \"3.3\"\n"}, "compose ruby", []string{`"../compose.yaml"`, `"service": "web"`}},
		"a Dockerfile":            {map[string]string{"Dockerfile": "FROM x\nEXPOSE 9000\n"}, "dockerfile", []string{`"dockerfile": "../Dockerfile"`, "[9000]"}},
		"several stacks at once":  {map[string]string{"go.mod": "go 1.24\n", "main.go": "", "web/package.json": "{}", "web/a.ts": "", "web/b.ts": ""}, "javascript go", nil},
		"nothing":                 {map[string]string{"README.md": "hello"}, "plain", []string{`"debian:12"`}},
		"not what was downloaded": {map[string]string{"node_modules/x/package.json": "{}", "vendor/y/go.mod": "go 1.2\n"}, "plain", nil},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			d := make1(t, c.files)
			var ways []string
			for _, w := range d.Ways {
				ways = append(ways, w.Name)
			}
			assert.Equal(t, c.ways, strings.Join(ways, " "))
			for _, want := range c.want {
				assert.Contains(t, d.Ways[0].Text, want)
			}
		})
	}
}

// Each draft must be a definition that can be read.
func TestDraftsOfTheDemoAreSound(t *testing.T) {
	for _, name := range demo.Names {
		files, err := demo.Repository(name)
		require.NoError(t, err)
		d, err := Make(files)
		require.NoError(t, err)
		for _, w := range d.Ways {
			r := definition.Read(t.Context(), fstest.MapFS{File: {Data: []byte(w.Text)}, "compose.yaml": {}, "Dockerfile": {Data: []byte("FROM x")}}, definition.Options{Folder: "/x"})
			for _, p := range r.Problems {
				assert.NotEqual(t, "syntax", p.Code, "%s as %s: %s", name, w.Name, w.Text)
				assert.NotEqual(t, "unknown-property", p.Code)
			}
		}
	}
}

func TestPortsOfTestsAreNoPorts(t *testing.T) {
	d := make1(t, map[string]string{"a_test.go": `Listen(":9999")`, "x.test.ts": "listen(9998)", "go.sum": ":7777", "deploy.env": "PORT=8443\n"})
	for _, s := range d.Seen {
		assert.NotContains(t, s.What, "port 9")
		assert.NotContains(t, s.What, "port 7")
	}
	assert.Contains(t, d.Ways[0].Text, "8443")
}
