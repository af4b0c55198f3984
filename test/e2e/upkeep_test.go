package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"domicile/internal/client"

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
	image := builtName(t, skipper, "untidy")
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

// builtName is what the engine calls the image that was built for a person's workspace: nobody
// can guess it from what goes into it.
func builtName(t *testing.T, p *person, workspace string) string {
	t.Helper()
	container, err := engineSays(t, "ps", "-a", "-q", "--filter", "label=domicile.workspace=w"+itoa(p.workspace(t, workspace).Id), "--filter", "label=domicile.service=")
	require.NoError(t, err, container)
	name, err := engineSays(t, "inspect", "-f", "{{.Config.Image}}", strings.Fields(container)[0])
	require.NoError(t, err, name)
	require.True(t, strings.HasPrefix(name, "domicile-image:"), name)
	digest, err := engineSays(t, "image", "inspect", "-f", `{{index .Config.Labels "domicile.image"}}`, name)
	require.NoError(t, err, digest)
	require.NotEmpty(t, digest)
	assert.NotContains(t, name, digest)
	return name
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

// What tidies beside people who make workspaces takes nothing away from them: neither an image
// that was built a moment ago, nor one that nobody used until now.
func TestTidyBesideAProvision(t *testing.T) {
	source := publish(t, "swept", `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, map[string]string{".devcontainer/Dockerfile": "FROM BASE\nRUN echo swept > /etc/tide\n"})
	tidying, stop := context.WithCancel(t.Context())
	done := make(chan int)
	go func() {
		times := 0
		for tidying.Err() == nil {
			if _, err := client.Answer[[]client.Leftover](skipper.api.Tidy(tidying)); err == nil {
				times++
			}
		}
		done <- times
	}()
	for i := range 3 { // built anew, or found there and used by nobody
		name := fmt.Sprintf("swept-%d", i)
		a := skipper.provision(t, source, name)
		require.Equal(t, 0, a.status, a.err)
		assert.Equal(t, "swept", skipper.inside(t, name, "cat /etc/tide"))
		require.Equal(t, 0, skipper.domicile(t, "remove", name, "-yes").status)
	}
	stop()
	assert.Greater(t, <-done, 3, "it was tidied meanwhile")
}
