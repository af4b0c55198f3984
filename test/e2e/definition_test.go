package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/definition"
)

// laidOut writes a repository to a folder of this machine.
func laidOut(t *testing.T, files map[string]string) string {
	t.Helper()
	folder := t.TempDir()
	for name, text := range files {
		to := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, []byte(strings.ReplaceAll(strings.ReplaceAll(text, "BASE", world.RegistryAt+"/skerry/base:12"), "FEATURES", world.FeaturesAt())), 0o644))
	}
	return folder
}

func TestCheckExplainsPinsAndUpdates(t *testing.T) {
	t.Setenv("HOME", t.TempDir()) // a cache of its own
	folder := laidOut(t, map[string]string{".devcontainer/devcontainer.json": `{"image": "BASE", "remoteUser": "crew", "forwardPorts": [8080],
		"features": {"FEATURES/tide:2": {"harbour": "Lamb Island"}}, "postCreateCommand": "true"}`})
	said := skipper.domicile(t, "check", folder)
	require.Equal(t, 0, said.status, said.err)
	for _, want := range []string{"the image " + world.RegistryAt + "/skerry/base:12", "Tide tables (harbour Lamb Island), feature 2.0.1", "needed by " + world.FeaturesAt() + "/tide:2", "8080", "crew", "Not pinned"} {
		assert.Contains(t, said.out, want)
	}
	var r definition.Report
	read := func(args ...string) {
		t.Helper()
		a := skipper.domicile(t, append([]string{"check", "-json"}, args...)...)
		r = definition.Report{}
		require.NoError(t, json.Unmarshal([]byte(a.out), &r), a.err)
	}
	read(folder)
	assert.Len(t, r.Floating, 3)
	require.Equal(t, 0, skipper.domicile(t, "check", "-lock", folder).status)
	for _, file := range []string{"devcontainer-lock.json", "domicile-lock.json"} {
		assert.FileExists(t, filepath.Join(folder, ".devcontainer", file))
	}
	read("-offline", folder)
	assert.Empty(t, r.Floating)
	assert.Empty(t, r.Problems, "what is pinned is known without asking anybody")
	assert.Contains(t, skipper.domicile(t, "check", "-update", folder).out, "up to date")

	effective := skipper.domicile(t, "check", "-effective", folder).out
	assert.Regexp(t, `containerEnv.SKERRY_HARBOURS +"/usr/local/share/skerry/harbours" +\S+/harbour:1`, effective)
	assert.Regexp(t, `waitFor +"updateContentCommand" +default`, effective)

	wrong := laidOut(t, map[string]string{".devcontainer/devcontainer.json": "{\n  \"image\": \"BASE\",\n  \"features\": {\n    \"FEATURES/tide:2\": { \"harbour\": \"Lamb Iland\" }\n  }\n}"})
	said = skipper.domicile(t, "check", wrong)
	assert.Equal(t, 1, said.status)
	lines := strings.Split(said.out, "\n")
	for i, line := range lines {
		if strings.Contains(line, " | ") && strings.Contains(line, "Lamb Iland") {
			assert.Equal(t, strings.Index(line, `"Lamb`), strings.Index(lines[i+1], "^"), "the caret stands below the word")
		}
	}
	assert.Contains(t, said.out, "Instead: Lamb Island")
}

func TestTemplatesAndDrafts(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	list := skipper.domicile(t, "templates")
	require.Equal(t, 0, list.status, list.err)
	for _, id := range []string{"python-service", "compiled-tool", "board-with-database"} {
		assert.Contains(t, list.out, id)
	}
	ref := world.TemplatesAt() + "/python-service"
	assert.Contains(t, skipper.domicile(t, "templates", "show", ref).out, `"forwardPorts": [8080]`, "what it holds is seen before it is chosen")
	folder := laidOut(t, map[string]string{"app.py": "HTTPServer(('', 8080), H)", "README.md": "x"})
	drafted := skipper.domicile(t, "draft", "-show", folder)
	assert.Contains(t, drafted.out, "port 8080")
	assert.NoFileExists(t, filepath.Join(folder, ".devcontainer/devcontainer.json"))
	require.Equal(t, 0, skipper.domicile(t, "draft", "-template", ref, "-option", "port=8000", folder).status)
	text, err := os.ReadFile(filepath.Join(folder, ".devcontainer/devcontainer.json"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "[8000]")
	again := skipper.domicile(t, "templates", "apply", ref, folder)
	assert.Equal(t, 1, again.status)
	assert.Contains(t, again.err, "nothing was written")
	now, err := os.ReadFile(filepath.Join(folder, ".devcontainer/devcontainer.json"))
	require.NoError(t, err)
	assert.Equal(t, string(text), string(now))
	assert.Equal(t, 2, skipper.domicile(t, "draft", "-as", "cobol", t.TempDir()).status)
}

func TestImagesAreBuiltOnceAndCarryWhatTheDefinitionSays(t *testing.T) {
	source := publish(t, "built", strings.ReplaceAll(`{
  "build": {"dockerfile": "Dockerfile", "context": "..", "args": {"LINE": "skerry"}, "target": "work"}, "remoteUser": "crew",
  "features": {"FEATURES/tide:2": {"harbour": "Lamb Island", "feet": true}, "FEATURES/lamp:1": {}, "FEATURES/crew:1": {}, "./local": {}},
  "mounts": ["type=volume,source=cache,target=/cache", "type=tmpfs,target=/scratch"], "capAdd": ["SYS_PTRACE"], "init": true,
  "runArgs": ["--shm-size=96m", "-e", "A=1", "--ulimit", "nofile=777:888", "--hostname", "lighthouse"], "containerEnv": {"B": "2"},
  "customizations": {"domicile": {"checks": {"tide": {"command": "tide", "contains": "10.2 ft"}, "wrong": {"command": "tide --version", "atLeast": "3", "from": "the feature tide"}}}}
}`, "FEATURES", world.FeaturesAt()), map[string]string{
		".devcontainer/Dockerfile": "FROM " + world.RegistryAt + "/skerry/base:12 AS work\nARG LINE\nCOPY <<EOF /etc/line\n$LINE\nEOF\nCOPY kept left.ou* /src/\nRUN --mount=type=cache,target=/c echo x > /c/x\nFROM work AS never\nRUN false\n",
		".dockerignore":            "left.out\n",
		"kept":                     "k",
		"left.out":                 "l",
		".devcontainer/local/devcontainer-feature.json": `{"id": "local", "version": "1.0.0", "containerEnv": {"PATH": "/opt/local:${PATH}"}, "installsAfter": ["` + world.FeaturesAt() + `/tide"]}`,
		".devcontainer/local/install.sh":                "#!/bin/sh\nset -e\nmkdir -p /opt/local\ntide > /opt/local/seen\nprintf '#!/bin/sh\\necho local\\n' > /opt/local/ashore\nchmod +x /opt/local/ashore\nid -u > /opt/local/uid\n",
	})
	// Two at the same moment build once.
	var both sync.WaitGroup
	for _, name := range []string{"built-one", "built-two"} {
		both.Go(func() {
			a := skipper.provision(t, source, name)
			assert.Equal(t, 0, a.status, a.err)
		})
	}
	both.Wait()
	logs := skipper.domicile(t, "log", "built-one", "-step", "image").out + skipper.domicile(t, "log", "built-two", "-step", "image").out
	assert.Equal(t, 1, strings.Count(logs, "harbours of the line: 3"), "built once:\n%s", logs)
	inside := func(line string) string {
		a := skipper.domicile(t, "run", "built-one", "--", "sh", "-c", line)
		return strings.TrimSpace(a.out + a.err)
	}
	for line, want := range map[string]string{
		"cat /etc/line; ls /src": "skerry\nkept", "tide": "Lamb Island: high water 04:10 and 16:35, 10.2 ft", "ashore; cat /opt/local/uid": "local\n0",
		"cat ~/crew.log": "crew came aboard", "test -s /run/lamp && echo lit": "lit", "echo $A$B; hostname": "12\nlighthouse",
		"df -m /dev/shm | tail -1 | tr -s ' ' | cut -d' ' -f2": "96", "ulimit -n": "777", "stat -f -c %T /scratch": "tmpfs", "cat /opt/local/seen": "Lamb Island: high water 04:10 and 16:35, 10.2 ft",
		"grep -c ' /cache ' /proc/mounts": "1", "cat /proc/1/comm | grep -c init": "1",
		"python3 -c \"print(int([l for l in open('/proc/1/status') if l.startswith('CapBnd')][0].split()[1], 16) >> 19 & 1)\"": "1",
	} {
		assert.Equal(t, want, inside(line), line)
	}
	w := skipper.workspace(t, "built-one")
	require.NotNil(t, w.Checks)
	require.Len(t, *w.Checks, 2)
	assert.True(t, (*w.Checks)[0].Ok)
	assert.Equal(t, client.CheckResult{Name: "wrong", Expected: "a version at least 3", Found: "2.0.1", From: new("the feature tide"), At: (*w.Checks)[1].At}, (*w.Checks)[1])
	assert.Equal(t, client.WorkspaceStateReady, w.State, "a check that fails leaves it ready")
	proof := skipper.domicile(t, "checks", "built-one")
	assert.Equal(t, 1, proof.status)
	assert.Regexp(t, `wrong +no +a version at least 3 +2.0.1 +the feature tide`, proof.out)

	// The image carries its metadata, so that it can be used with image alone.
	out, err := engineSays(t, "image", "inspect", "-f", `{{index .Config.Labels "devcontainer.metadata"}}`, builtName(t, skipper, w.Name))
	require.NoError(t, err, out)
	var label []map[string]any
	require.NoError(t, json.Unmarshal([]byte(out), &label))
	assert.Len(t, label, 6, "five features and the definition")
	assert.Equal(t, "/usr/local/share/skerry/light-the-lamp", label[1]["entrypoint"], out)
}

func TestABuildThatFailsNamesItsStep(t *testing.T) {
	source := publish(t, "unbuilt", `{"build": {"dockerfile": "Dockerfile"}}`, map[string]string{".devcontainer/Dockerfile": "FROM " + world.RegistryAt + "/skerry/base:12\nRUN echo the chart is missing >&2; exit 4\n"})
	a := skipper.provision(t, source, "unbuilt")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "RUN echo the chart is missing")
	assert.Contains(t, a.err, "exit status 4, after it said: the chart is missing")
}

func TestHostileRepositoriesAreRefusedOrHarmless(t *testing.T) {
	for name, text := range map[string]string{
		"privileged": `"privileged": true`, "socket": `"mounts": ["type=bind,source=/var/run/docker.sock,target=/s"]`, "volume": `"runArgs": ["-v", "/:/host"]`, "network": `"runArgs": ["--network=host"]`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := skipper.provision(t, publish(t, "hostile-"+name, "{\n\"image\": \"BASE\",\n"+text+"\n}", nil), "hostile-"+name)
			assert.Equal(t, 1, a.status)
			assert.Contains(t, a.err, ".devcontainer/devcontainer.json:3")
			assert.Contains(t, a.err, "does not allow")
		})
	}
	// A volume's name is the workspace's own: another workspace has another one.
	for i := range 2 {
		name := fmt.Sprintf("own-volume-%d", i)
		source := publish(t, name, `{"image": "BASE", "mounts": ["type=volume,source=shared,target=/shared"]}`, nil)
		require.Equal(t, 0, skipper.provision(t, source, name).status)
	}
	require.Equal(t, 0, skipper.domicile(t, "run", "own-volume-0", "--", "touch", "/shared/secret").status)
	assert.Empty(t, skipper.domicile(t, "run", "own-volume-1", "--", "ls", "/shared").out)
}

func TestARebuildDoesOnlyWhatTheDigestsSay(t *testing.T) {
	definition := func(label, start, features string) string {
		return `{"image": "BASE", "remoteUser": "crew", "forwardPorts": [8080], "portsAttributes": {"8080": {"label": "` + label + `"}},
			"onCreateCommand": "echo x >> ~/created", "postStartCommand": "` + start + `", "features": {` + features + `}}`
	}
	source := publish(t, "rebuilt", definition("One", "echo 1 >> /tmp/started", ""), nil)
	require.Equal(t, 0, skipper.provision(t, source, "rebuilt").status)
	id := func() string { return strings.TrimSpace(objects(t)[0]) }
	container := id()
	require.Equal(t, 0, skipper.domicile(t, "run", "rebuilt", "--", "sh", "-c", "echo mine > work.txt; echo y > ~/elsewhere").status)
	rebuild := func(text string) map[string]client.StepState {
		t.Helper()
		publish(t, "rebuilt", text, nil)
		a := skipper.domicile(t, "rebuild", "rebuilt")
		require.Equal(t, 0, a.status, a.err)
		states := map[string]client.StepState{}
		for _, s := range skipper.workspace(t, "rebuilt").Run.Steps {
			states[s.Name] = s.State
		}
		return states
	}
	started, err := engineSays(t, "inspect", "-f", "{{.State.StartedAt}}", container)
	require.NoError(t, err)
	states := rebuild(definition("Two", "echo 1 >> /tmp/started", ""))
	for _, step := range []string{"image", "volume", "container", "source", "onCreateCommand", "postStartCommand"} {
		assert.Equal(t, client.StepStateSkipped, states[step], step)
	}
	assert.Equal(t, "Two", *skipper.workspace(t, "rebuilt").Ports[0].Label)
	states = rebuild(definition("Two", "echo 2 >> /tmp/started", ""))
	assert.Equal(t, client.StepStateSkipped, states["container"])
	assert.Equal(t, client.StepStateDone, states["postStartCommand"])
	assert.Equal(t, "1\n2\n", skipper.domicile(t, "run", "rebuilt", "--", "cat", "/tmp/started").out)
	now, err := engineSays(t, "inspect", "-f", "{{.State.StartedAt}}", container)
	require.NoError(t, err)
	assert.Equal(t, started, now, "the same container, never restarted")

	states = rebuild(definition("Two", "true", `"`+world.FeaturesAt()+`/tide:2": {}`))
	assert.Equal(t, client.StepStateDone, states["container"])
	assert.Equal(t, client.StepStateSkipped, states["source"])
	inside := skipper.domicile(t, "run", "rebuilt", "--", "sh", "-c", "cat work.txt; tide --version; cat ~/created; ls ~/elsewhere")
	assert.Equal(t, "mine\ntide 2.0.1\nx\n", inside.out, "the source stays with its changes; a new container begins anew")
}

func TestComposeFromAddressToRows(t *testing.T) {
	before := len(everything(t))
	a := skipper.provision(t, repository("quayboard"), "board")
	require.Equal(t, 0, a.status, a.err)
	rows := skipper.domicile(t, "run", "board", "--", "python3", "-c", "import urllib.request as u; print(u.urlopen('http://127.0.0.1:8000').read().decode())")
	assert.Contains(t, rows.out, `{"departs": "06:40", "harbour": "Lamb Island"}`, rows.err)
	w := skipper.workspace(t, "board")
	require.NotNil(t, w.Checks)
	assert.True(t, (*w.Checks)[0].Ok)
	assert.Contains(t, skipper.domicile(t, "tasks", "board", "departures").out, "(3 rows)")
	assert.Regexp(t, `db +running, healthy`, skipper.domicile(t, "services", "board").out)
	assert.Contains(t, skipper.domicile(t, "services", "board", "log", "db").out, "ready to accept connections")
	assert.Equal(t, 1, skipper.domicile(t, "services", "board", "log", "nosuch").status)
	listens := func(what, line string) {
		t.Helper()
		eventually(t, 20*time.Second, what, func() bool {
			return regexp.MustCompile(line).MatchString(skipper.domicile(t, "ports", "board").out)
		})
	}
	listens("the database is seen to listen", `db:5432 .*postgres.* of .* all addresses .*domicile forward board db:5432`)
	assert.Equal(t, 0, skipper.domicile(t, "services", "board", "restart", "db").status)
	listens("and again when it was restarted", `db:5432 .*postgres.* of .* all addresses`)

	require.Equal(t, 0, skipper.domicile(t, "stop", "board").status)
	assert.NotContains(t, skipper.domicile(t, "services", "board").out, "running")
	require.Equal(t, 0, skipper.domicile(t, "start", "board").status)
	rows = skipper.domicile(t, "run", "board", "--", "python3", "-c", "import board; print(len(board.departures()))")
	assert.Equal(t, "3\n", rows.out, "what was in the volume is there again: "+rows.err)
	skipper.remove(t, "board")
	assert.Len(t, everything(t), before, "containers, volumes and networks are gone")
}

func TestAServiceThatDoesNotBecomeHealthyIsNamed(t *testing.T) {
	source := publish(t, "unwell", `{"dockerComposeFile": "compose.yaml", "service": "work"}`, map[string]string{".devcontainer/compose.yaml": "services:\n  work:\n    image: BASE\n    command: sleep infinity\n    depends_on: { db: { condition: service_healthy } }\n  db:\n    image: BASE\n    command: [sh, -c, 'echo the lamp is out; exit 3']\n    healthcheck: { test: [CMD, 'true'] }\n"})
	a := skipper.provision(t, source, "unwell")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "db: the lamp is out")
	assert.Contains(t, a.err, "the service db (.devcontainer/compose.yaml:6) ended with exit status 3")
}

func TestPrivateRegistriesByTheServicesCredentials(t *testing.T) {
	require.Equal(t, 0, skipper.domicile(t, "templates").status) // the open part stays open
	t.Cleanup(world.Registry.Protect("private/", "crew", "lantern"))
	require.NoError(t, world.PublishFeatures(t.Context(), world.RegistryAt+"/private", "crew", "lantern"))
	source := publish(t, "private", `{"image": "BASE", "features": {"`+world.RegistryAt+`/private/harbour:1": {}}}`, nil)
	a := skipper.provision(t, source, "private")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "without credentials")
	assert.Contains(t, a.err, "domicile registries add")
	refused := finish(t, finn.command(t.Context(), "lantern\n", "registries", "add", world.RegistryAt, "-user", "crew").Cmd)
	assert.Equal(t, 1, refused.status, "only an administrator may")
	require.Equal(t, 0, finish(t, skipper.command(t.Context(), "lantern\n", "registries", "add", world.RegistryAt, "-user", "crew").Cmd).status)
	t.Cleanup(func() {
		out, err := skipper.command(context.WithoutCancel(t.Context()), "", "registries", "remove", world.RegistryAt).output()
		assert.NoError(t, err, out)
	})
	assert.Contains(t, skipper.domicile(t, "registries").out, "crew")
	again := skipper.domicile(t, "provision", source, "-name", "private")
	assert.Equal(t, 0, again.status, again.err)
	assert.NotContains(t, world.Service.Printed(), "lantern")
}
