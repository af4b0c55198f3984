package e2e

import (
	"context"
	"encoding/base64"

	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serveWith serves with more flags until the test ends.
func serveWith(t *testing.T, flags ...string) {
	t.Helper()
	world.Service.Stop()
	require.NoError(t, world.StartService(t.Context(), flags...))
	t.Cleanup(func() {
		world.Service.Stop()
		require.NoError(t, world.StartService(context.WithoutCancel(t.Context())))
	})
}

func TestHostCommandsRunOnlyWherePolicyAllows(t *testing.T) {
	source := publish(t, "initial", `{"image": "BASE", "remoteUser": "crew", "initializeCommand": {"one": "echo made on the host > from-host", "two": ["sh", "-c", "env; pwd"]}}`, nil)
	a := skipper.provision(t, source, "initial")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "initializeCommand runs a command on the host itself")
	assert.Contains(t, a.err, ".devcontainer/devcontainer.json:1")
	serveWith(t, "-allow", "host-commands")
	a = skipper.domicile(t, "provision", source, "-name", "initial")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "two: PATH=")
	assert.NotContains(t, a.err, "postgres://", "nothing of the service's own environment")
	assert.NotContains(t, a.err, "DOMICILE_")
	assert.Equal(t, "made on the host", strings.TrimSpace(skipper.domicile(t, "run", "initial", "--", "cat", "from-host").out))
	// It runs at later starts too, in the same checkout, with the git host away as well.
	publish(t, "initially", `{"image": "BASE", "initializeCommand": "echo x >> count; echo count $(wc -l < count) in ${localWorkspaceFolder}; test $PWD = ${localWorkspaceFolder}; test $(basename $PWD) = initially"}`, nil)
	again := skipper.provision(t, world.GitAt+"/test/initially.git", "initially")
	require.Equal(t, 0, again.status, again.err)
	assert.Contains(t, again.err, "count 1 in ")
	require.Equal(t, 0, skipper.domicile(t, "stop", "initially").status)
	started := skipper.domicile(t, "start", "initially")
	require.Equal(t, 0, started.status, started.err)
	assert.Contains(t, started.err, "count 2 in ")
	publish(t, "initial", `{"image": "BASE", "initializeCommand": "echo no oil >&2; exit 4"}`, nil)
	a = skipper.provision(t, source, "initial-bad")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "initializeCommand failed: echo no oil")
}

// postAttachCommand runs each time somebody connects.
func TestPostAttachAtEachAttach(t *testing.T) {
	source := publish(t, "attached", `{"image": "BASE", "remoteUser": "crew", "postAttachCommand": "echo attached >> ~/attached"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "attached").status)
	count := func() int {
		out, _ := dockerExec(t, objects(t)[0], "cat", "/home/crew/attached")
		return strings.Count(out, "attached\n")
	}
	assert.Zero(t, count())
	first := openTerminal(t, "attached", "one")
	eventually(t, 20*time.Second, "postAttachCommand ran", func() bool { return count() == 1 })
	// Somebody is connected already, and this one goes at once: it is an attach too.
	assert.Equal(t, 0, skipper.domicile(t, "run", "attached", "--", "true").status)
	eventually(t, 20*time.Second, "postAttachCommand ran again", func() bool { return count() == 2 })
	second := openTerminal(t, "attached", "two")
	eventually(t, 20*time.Second, "postAttachCommand ran for the second terminal", func() bool { return count() == 3 })
	for _, terminal := range []*openedTerminal{first, second} {
		terminal.typed("exit\n")
		terminal.expectExit(0)
	}
	assert.Equal(t, 3, count())
	assert.Contains(t, skipper.domicile(t, "log", "attached").out, "$ echo attached")
}

const token = "wick-and-oil-7714"

func TestSecretsOnlyWhereTheStandardAllows(t *testing.T) {
	definition := `{"image": "BASE", "remoteUser": "crew", "secrets": {"TIDE_TOKEN": {"description": "of the tide service"}},
		"onCreateCommand": "echo early=${TIDE_TOKEN:-none} > ~/early", "updateContentCommand": "echo content=${TIDE_TOKEN:-none} >> ~/early",
		"postCreateCommand": "echo late=$TIDE_TOKEN; echo $TIDE_TOKEN | base64; printf %s $TIDE_TOKEN | sha256sum | cut -c1-8 > ~/late", "postStartCommand": "echo start=$TIDE_TOKEN"}`
	source := publish(t, "tokens", definition, nil)
	set := func(who *person, of string) {
		out, err := who.command(t.Context(), token, "secrets", "set", "TIDE_TOKEN", "-for", of).output()
		require.NoError(t, err, out)
		assert.NotContains(t, out, token)
	}
	a := skipper.provision(t, source, "without")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "domicile secrets set TIDE_TOKEN -for "+source)
	set(skipper, source)
	set(skipper, publish(t, "other", `{"image": "BASE"}`, nil))
	a = skipper.provision(t, source, "with")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "early=none\ncontent=none", strings.TrimSpace(skipper.domicile(t, "run", "with", "--", "cat", "/home/crew/early").out))
	assert.NotEmpty(t, strings.TrimSpace(skipper.domicile(t, "run", "with", "--", "cat", "/home/crew/late").out))
	assert.Contains(t, a.err, "late=(secret)")
	assert.Contains(t, a.err, "start=(secret)")
	for what, text := range map[string]string{"what was printed": a.err, "the log": skipper.domicile(t, "log", "with").out, "the service": world.Service.Printed(), "the list": skipper.domicile(t, "secrets").out,
		"a terminal": skipper.domicile(t, "run", "with", "--", "env").out} {
		assert.NotContains(t, text, token, what)
		assert.NotContains(t, text, strings.TrimRight(base64.StdEncoding.EncodeToString([]byte(token)), "=")[:20], what)
	}
	// A definition of another source, even with the same words, does not get it.
	elsewhere := publish(t, "copied", definition, nil)
	a = skipper.provision(t, elsewhere, "copied")
	require.Equal(t, 0, a.status)
	assert.Contains(t, a.err, "late=\n")
	out, err := engineSays(t, append([]string{"inspect"}, objects(t)...)...)
	require.NoError(t, err)
	assert.NotContains(t, out, token, "no container's configuration has it")
	assert.Contains(t, skipper.domicile(t, "secrets", "remove", "TIDE_TOKEN", "-for", source).out, "not get TIDE_TOKEN any more")
}

// A build may read a secret where policy allows; its image is nobody else's, and nothing of
// it comes from a cache that another filled.
func TestBuildSecrets(t *testing.T) {
	source := publish(t, "sealed", `{"build": {"dockerfile": "Dockerfile", "options": ["--secret", "id=MOORING"]}, "remoteUser": "crew"}`, map[string]string{
		".devcontainer/Dockerfile": "FROM BASE\nRUN --mount=type=secret,id=MOORING if [ -e /run/secrets/MOORING ]; then cat /run/secrets/MOORING; sha256sum < /run/secrets/MOORING; else echo none; fi > /tmp/said; cat /tmp/said; cut -c1-8 /tmp/said | tail -1 > /proof; rm /tmp/said\n"})
	a := skipper.provision(t, source, "sealed")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "-allow build-secrets")
	serveWith(t, "-allow", "build-secrets")
	out, err := skipper.command(t.Context(), token, "secrets", "set", "MOORING", "-for", source).output()
	require.NoError(t, err, out)
	a = skipper.domicile(t, "provision", source, "-name", "sealed")
	require.Equal(t, 0, a.status, a.err)
	assert.NotContains(t, a.err, token)
	assert.NotContains(t, world.Service.Printed(), token)
	proof := strings.TrimSpace(skipper.domicile(t, "run", "sealed", "--", "cat", "/proof").out)
	require.Equal(t, 0, finn.provision(t, source, "sealed").status)
	assert.Equal(t, "none", strings.TrimSpace(finn.domicile(t, "run", "sealed", "--", "cat", "/proof").out), "finn has no such secret, and not the skipper's layer (%s)", proof)
	assert.NotEqual(t, builtName(t, skipper, "sealed"), builtName(t, finn, "sealed"))
}

func TestSizesLimitAndAreRefused(t *testing.T) {
	source := publish(t, "sized", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	a := skipper.domicile(t, "provision", source, "-name", "sized", "-size", "vast")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "small (1 processor, 2 GB)")
	require.Equal(t, 0, skipper.provision(t, source, "sized", "-size", "small").status)
	out, err := engineSays(t, "inspect", "-f", "{{.HostConfig.Memory}} {{.HostConfig.NanoCpus}}", objects(t)[0])
	require.NoError(t, err)
	assert.Equal(t, "2147483648 1000000000", strings.TrimSpace(out))
	publish(t, "sized", `{"image": "BASE", "hostRequirements": {"memory": "6gb"}}`, nil)
	a = skipper.domicile(t, "plan", source, "-size", "medium")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "more than the size medium")
}

// What a host does not have is told before anything is made, all of it at once.
func TestWhatTheHostDoesNotHave(t *testing.T) {
	source := publish(t, "vast", "{\n\"image\": \"BASE\",\n\"hostRequirements\": {\n\"cpus\": 4096,\n\"memory\": \"900tb\",\n\"storage\": \"900tb\",\n\"gpu\": true}}", nil)
	for _, args := range [][]string{{"plan", source}, {"provision", source, "-name", "vast"}} {
		a := skipper.domicile(t, args...)
		require.Equal(t, 1, a.status, a.out)
		for _, says := range []string{".devcontainer/devcontainer.json:4: hostRequirements.cpus asks for 4096 processors; the site this-host has", ":5: hostRequirements.memory asks for 900tb", ":6: hostRequirements.storage asks for 900tb",
			":7: hostRequirements.gpu asks for a graphics processor", "choose another site"} {
			assert.Contains(t, a.out+a.err, says, args)
		}
	}
	assert.Empty(t, objects(t), "nothing was made")
	skipper.remove(t, "vast")
}
