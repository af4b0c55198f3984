package e2e

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// publishLinks puts a repository on the git host some of whose files are links.
func publishLinks(t *testing.T, name string, files, links map[string]string) string {
	t.Helper()
	work := t.TempDir()
	git := func(args ...string) {
		c := exec.CommandContext(t.Context(), "git", args...)
		c.Dir = work
		c.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=S", "GIT_AUTHOR_EMAIL=s@skerry.test", "GIT_COMMITTER_NAME=S", "GIT_COMMITTER_EMAIL=s@skerry.test")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "git %v: %s", args, out)
	}
	source := publish(t, name, "{}", nil)
	git("clone", "--quiet", world.Git.Path("test/"+name), ".")
	require.NoError(t, os.RemoveAll(filepath.Join(work, ".devcontainer")))
	for path, text := range files {
		at := filepath.Join(work, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(strings.ReplaceAll(text, "BASE", world.RegistryAt+"/skerry/base:12")), 0o600))
	}
	for path, to := range links {
		at := filepath.Join(work, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.Symlink(to, at))
	}
	git("add", "--all")
	git("commit", "--quiet", "-m", "Links")
	git("push", "--quiet", "origin", "HEAD:main")
	return source
}

// Links in a source that lead out of it never bring what is there: the definition, the
// Dockerfile, its context, Compose files, features and the files they name.
func TestLinksThatLeadOutOfTheSource(t *testing.T) {
	const prize = "the-captains-secret"
	outside := filepath.Join(t.TempDir(), "prize")
	require.NoError(t, os.MkdirAll(outside, 0o755))
	for name, text := range map[string]string{"Dockerfile": "FROM BASE\nRUN echo " + prize + "\n", "devcontainer.json": `{"image": "BASE", "containerEnv": {"PRIZE": "` + prize + `"}}`, "values.env": "PRIZE=" + prize + "\n",
		"compose.yaml": "services: { work: { image: BASE, command: sleep infinity, environment: { PRIZE: " + prize + " } } }\n", "feature/devcontainer-feature.json": `{"id": "prize", "version": "1.0.0"}`, "feature/install.sh": "#!/bin/sh\necho " + prize + " > /prize\n", "file": prize} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(outside, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(outside, name), []byte(strings.ReplaceAll(text, "BASE", world.RegistryAt+"/skerry/base:12")), 0o600))
	}
	compose := func(service string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": `{"dockerComposeFile": "compose.yaml", "service": "work"}`, ".devcontainer/compose.yaml": "services:\n  work: { image: BASE, command: sleep infinity, " + service + " }\n"}
	}
	cases := map[string]struct{ files, links map[string]string }{
		"definition":   {nil, map[string]string{".devcontainer/devcontainer.json": outside + "/devcontainer.json"}},
		"folder":       {nil, map[string]string{".devcontainer": outside}},
		"dockerfile":   {map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}}`}, map[string]string{".devcontainer/Dockerfile": outside + "/Dockerfile"}},
		"context":      {map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile", "context": "../out"}}`, ".devcontainer/Dockerfile": "FROM BASE\nCOPY . /out\nRUN cat /out/file\n"}, map[string]string{"out": outside}},
		"in context":   {map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile", "context": "."}}`, ".devcontainer/Dockerfile": "FROM BASE\nCOPY in /in\nRUN cat /in\n"}, map[string]string{".devcontainer/in": outside + "/file"}},
		"compose":      {map[string]string{".devcontainer/devcontainer.json": `{"dockerComposeFile": "compose.yaml", "service": "work"}`}, map[string]string{".devcontainer/compose.yaml": outside + "/compose.yaml"}},
		"env file":     {compose("env_file: values.env"), map[string]string{".devcontainer/values.env": outside + "/values.env"}},
		"file mount":   {compose("volumes: ['./in:/in:ro']"), map[string]string{".devcontainer/in": outside + "/file"}},
		"feature":      {map[string]string{".devcontainer/devcontainer.json": `{"image": "BASE", "features": {"./prize": {}}}`}, map[string]string{".devcontainer/prize": outside + "/feature"}},
		"feature file": {map[string]string{".devcontainer/devcontainer.json": `{"image": "BASE", "features": {"./prize": {}}}`, ".devcontainer/prize/devcontainer-feature.json": `{"id": "prize", "version": "1.0.0"}`}, map[string]string{".devcontainer/prize/install.sh": outside + "/feature/install.sh"}},
		"above":        {map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "../../../../../../../../etc/passwd"}}`}, nil},
	}
	for what, c := range cases {
		t.Run(what, func(t *testing.T) {
			name := "leads-out-" + strings.ReplaceAll(what, " ", "-")
			a := skipper.provision(t, publishLinks(t, name, c.files, c.links), name)
			said := a.out + a.err + skipper.domicile(t, "log", name).out
			assert.NotContains(t, said, prize)
			if a.status == 0 {
				inside := skipper.inside(t, name, "env; cat /prize /in /out/file 2>/dev/null; true")
				assert.NotContains(t, inside, prize)
			} else {
				assert.NotEmpty(t, strings.TrimSpace(a.err))
			}
		})
	}
	b, err := exec.Command("grep", "-rlF", prize, filepath.Join(world.Folder(), "service")).Output()
	assert.Error(t, err, "the service kept it: %s", bytes.TrimSpace(b))
}
