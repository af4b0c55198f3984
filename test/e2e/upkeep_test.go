package e2e

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDriftFindsWhatTheDefinitionDoesNotSay(t *testing.T) {
	definition := func(command string) string {
		return `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "` + command + `"}`
	}
	source := publish(t, "drifting", definition("true"), nil)
	require.Equal(t, 0, skipper.provision(t, source, "drifting").status)
	assert.Contains(t, skipper.domicile(t, "drift", "drifting").out, "is as its definition says")
	name := strings.TrimSpace(objects(t)[0])
	out, err := dockerExec(t, name, "sh", "-c", "mkdir -p /usr/local/lib/python3.11/dist-packages/tides-1.2.0.dist-info /usr/local/lib/node_modules/quay /home/crew/go/bin && touch /home/crew/go/bin/buoy")
	require.NoError(t, err, out)
	publish(t, "drifting", definition("echo changed"), nil)
	said := skipper.domicile(t, "drift", "drifting").out
	assert.Regexp(t, `definition +\S+devcontainer.json +changed since: run onCreateCommand would be done again +domicile rebuild drifting`, said)
	assert.Contains(t, said, `"onCreateCommand": "pip install tides==1.2.0"`)
	assert.Contains(t, said, `"onCreateCommand": "npm install -g quay"`)
	assert.Contains(t, said, "buoy")
}

func TestTidyRemovesOnlyWhatIsDomicilesAndUnused(t *testing.T) {
	source := publish(t, "untidy", `{"image": "BASE", "features": {"`+world.FeaturesAt()+`/lamp:1": {}}}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "untidy").status)
	image := builtName(t, *skipper.workspace(t, "untidy").Image)
	assert.NotContains(t, skipper.domicile(t, "tidy", "-json").out, image, "it is in use")
	out, err := engineSays(t, "volume", "create", "somebody-elses")
	require.NoError(t, err, out)
	skipper.remove(t, "untidy")
	assert.Contains(t, skipper.domicile(t, "tidy", "-json").out, image)
	refused := finn.domicile(t, "tidy", "-yes")
	assert.Equal(t, 1, refused.status)
	assert.Contains(t, refused.err, "administrator")
	assert.Contains(t, skipper.domicile(t, "tidy", "-yes", "-json").out, image)
	assert.NotContains(t, skipper.domicile(t, "tidy", "-json").out, image)
	out, err = engineSays(t, "volume", "ls", "-q")
	require.NoError(t, err)
	assert.Contains(t, out, "somebody-elses")
}

// builtName is what the engine calls an image that was built: nobody can guess it from what
// goes into it.
func builtName(t *testing.T, image string) string {
	t.Helper()
	digest, built := strings.CutPrefix(image, "domicile-image:")
	require.True(t, built, image)
	out, err := engineSays(t, "image", "ls", "--filter", "label=domicile.image="+digest, "--format", "{{.Repository}}:{{.Tag}}")
	require.NoError(t, err, out)
	require.NotEmpty(t, out)
	assert.NotContains(t, out, digest)
	return strings.Fields(out)[0]
}

func TestPersonalSettingsComeLastAndMayFail(t *testing.T) {
	settings := publish(t, "settings", "{}", map[string]string{".shellrc": "alias tide=high", "install.sh": "#!/bin/sh\ncp .shellrc ~/.shellrc\necho installed by $(id -un)\n"})
	assert.Contains(t, skipper.domicile(t, "personal", settings).out, settings)
	t.Cleanup(func() {
		assert.NoError(t, skipper.command(context.WithoutCancel(t.Context()), "", "personal", "-none").Run())
	})
	source := publish(t, "plain", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	a := skipper.provision(t, source, "personal")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "installed by crew")
	assert.Equal(t, "alias tide=high", strings.TrimSpace(skipper.domicile(t, "run", "personal", "--", "cat", "/home/crew/.shellrc").out))
	publish(t, "settings", "{}", map[string]string{"install.sh": "#!/bin/sh\necho no lamp oil >&2\nexit 3\n"})
	a = skipper.provision(t, source, "personal-too")
	assert.Equal(t, 0, a.status, "the workspace is ready all the same: "+a.err)
	assert.Contains(t, a.err, "no lamp oil")
	assert.Contains(t, a.err, "your settings were not put in")
}
