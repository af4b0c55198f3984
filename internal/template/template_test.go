package template

import (
	"maps"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

var quay = fstest.MapFS{
	"devcontainer-template.json":      {Data: []byte(`{"id": "quay", "version": "1.0.0", "name": "Quay", "options": {"port": {"type": "string", "default": "80"}, "side": {"type": "string", "enum": ["north", "south"], "default": "north"}, "lit": {"type": "boolean", "default": true}}, "optionalPaths": ["docs/*", "NOTES.md"]}`)},
	".devcontainer/devcontainer.json": {Data: []byte(`{"image": "x", "forwardPorts": [${templateOption:port}], "name": "${templateOption: side } ${templateOption:other}"}`)},
	"docs/a.md":                       {Data: []byte("lit: ${templateOption:lit}")},
	"NOTES.md":                        {},
	"bin/run":                         {Data: []byte("\xff\xfe${templateOption:port}"), Mode: 0o755},
}

func TestApply(t *testing.T) {
	tmpl, err := Read(quay)
	require.NoError(t, err)
	assert.Equal(t, []string{"port", "side", "lit"}, []string{tmpl.Options[0].Name, tmpl.Options[1].Name, tmpl.Options[2].Name}, "in the order of the text")
	files, err := tmpl.Apply(map[string]string{"port": "8080"}, []string{"NOTES.md"})
	require.NoError(t, err)
	assert.Equal(t, []string{".devcontainer/devcontainer.json", "bin/run", "docs/a.md"}, slices.Sorted(maps.Keys(files)))
	assert.Equal(t, `{"image": "x", "forwardPorts": [8080], "name": "north ${templateOption:other}"}`, string(files[".devcontainer/devcontainer.json"].Content))
	assert.Equal(t, "lit: true", string(files["docs/a.md"].Content))
	assert.Equal(t, "\xff\xfe${templateOption:port}", string(files["bin/run"].Content), "what is no text stays as it is")
	assert.True(t, files["bin/run"].Executable)
	files, err = tmpl.Apply(nil, []string{"docs/*"})
	require.NoError(t, err)
	assert.NotContains(t, files, "docs/a.md")
}

func TestWrongOptionsAreRefused(t *testing.T) {
	tmpl, err := Read(quay)
	require.NoError(t, err)
	for want, options := range map[string]map[string]string{"unknown-option": {"prot": "1"}, "bad-option": {"side": "east"}} {
		_, err := tmpl.Apply(options, nil)
		assert.Equal(t, want, fault.Code(err))
	}
	_, err = tmpl.Apply(map[string]string{"lit": "yes"}, nil)
	assert.Equal(t, "bad-option", fault.Code(err))
	_, err = tmpl.Apply(nil, []string{"bin/run"})
	assert.Equal(t, "unknown-path", fault.Code(err))
}

func TestWhatIsNoTemplate(t *testing.T) {
	_, err := Read(fstest.MapFS{"x": {}})
	assert.Equal(t, "not-a-template", fault.Code(err))
	_, err = Read(fstest.MapFS{"devcontainer-template.json": {Data: []byte("{,}")}})
	assert.Equal(t, "bad-template", fault.Code(err))
}
