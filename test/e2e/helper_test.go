package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A helper is reached by its name and by OpenSSH's own client from inside, without a key
// or a question, and goes with its workspace.
func TestHelpers(t *testing.T) {
	source := publish(t, "helped", `{"image": "BASE", "remoteUser": "crew"}`, map[string]string{
		".devcontainer/tools/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "onCreateCommand": "echo made > ~/made", "containerEnv": {"KIND": "tools"}}`,
		".devcontainer/tools/Dockerfile":        "FROM BASE\nRUN echo sharpened > /tool\n", "chart.txt": "rocks"})
	require.Equal(t, 0, skipper.provision(t, source, "helped", "-file", ".devcontainer/devcontainer.json").status)
	image := world.RegistryAt + "/skerry/base:12"
	a := skipper.domicile(t, "helper", "helped", "-image", image, "-as", "mate", "-share")
	require.Equal(t, 0, a.status, a.out+a.err)
	assert.Contains(t, a.out, "From inside helped: ssh mate")
	a = skipper.domicile(t, "helper", "helped", "-file", ".devcontainer/tools/devcontainer.json", "-as", "tools")
	require.Equal(t, 0, a.status, a.out+a.err)

	assert.Equal(t, "mate root rocks", skipper.inside(t, "helped", "echo $(ssh mate 'hostname; id -un; cat chart.txt')"))
	assert.Equal(t, "sharpened tools made crew", skipper.inside(t, "helped", "echo $(ssh tools 'cat /tool; echo $KIND; cat ~/made; id -un')"))
	assert.Equal(t, "from the workspace", skipper.inside(t, "helped", "echo from the workspace > shared; ssh mate cat shared"))
	assert.Equal(t, "7", skipper.inside(t, "helped", "ssh mate 'exit 7'; echo $?"))
	// By name both ways, for any program.
	assert.Equal(t, "answer", skipper.inside(t, "helped", `ssh mate 'python3 -c "
import socket
s = socket.socket(); s.bind((\"\", 7000)); s.listen(1); print(\"up\", flush=True); c, _ = s.accept(); c.sendall(b\"answer\"); c.close()"' > /tmp/up & until grep -q up /tmp/up; do sleep 0.1; done
python3 -c "
import socket
s = socket.create_connection((\"mate\", 7000)); print(s.recv(9).decode())"; ssh mate 'getent hosts helped' >/dev/null`))
	assert.Equal(t, "mate", strings.TrimSpace(skipper.domicile(t, "run", "helped.mate", "--", "hostname").out), "from outside by both names")
	assert.Equal(t, 0, skipper.ssh(t, "", "helped.tools@127.0.0.1", "test -e /tool").status)
	assert.Regexp(t, `mate +ready`, skipper.domicile(t, "helper", "helped").out)
	assert.NotContains(t, skipper.domicile(t, "list").out, "helped.mate")
	assert.Contains(t, skipper.domicile(t, "show", "helped").out, "mate (ready), tools (ready)")
	taken := skipper.domicile(t, "helper", "helped", "-image", image, "-as", "mate")
	assert.Equal(t, 1, taken.status)
	assert.Contains(t, taken.err, "has a helper mate already")
	assert.Equal(t, 1, finn.domicile(t, "helper", "helped", "-image", image, "-as", "spy").status)

	for _, args := range [][]string{{"rebuild", "helped.mate"}, {"snapshots", "keep", "helped.mate"}} {
		assert.Contains(t, skipper.domicile(t, args...).err, "helped.mate is a helper", "%v", args)
	}

	// Stopped and started with the workspace, and known again after it.
	require.Equal(t, 0, skipper.domicile(t, "stop", "helped").status)
	assert.Equal(t, client.WorkspaceStateStopped, skipper.workspace(t, "helped.mate").State)
	alone := skipper.domicile(t, "start", "helped.mate")
	assert.Equal(t, 1, alone.status)
	assert.Contains(t, alone.err, "the workspace helped is not running, and its helpers run beside it")
	require.Equal(t, 0, skipper.domicile(t, "start", "helped").status)
	assert.Equal(t, "mate", skipper.inside(t, "helped", "ssh mate hostname"))
	// Another workspace does not reach them.
	require.Equal(t, 0, skipper.provision(t, source, "stranger", "-file", ".devcontainer/devcontainer.json").status)
	assert.NotEqual(t, 0, skipper.domicile(t, "run", "stranger", "--", "ssh", "-o", "BatchMode=yes", "-o", "ConnectTimeout=3", "mate", "true").status)
	address, err := engineSays(t, "inspect", "-f", "{{range .NetworkSettings.Networks}}{{.IPAddress}} {{end}}", containerOf(t, "helped.mate"))
	require.NoError(t, err)
	for _, ip := range strings.Fields(address) {
		reached := skipper.domicile(t, "run", "stranger", "--", "python3", "-c", "import socket,sys; socket.create_connection((sys.argv[1], 4322), 2)", ip)
		assert.NotEqual(t, 0, reached.status, "a stranger reaches %s", ip)
	}
	require.Equal(t, 0, skipper.domicile(t, "remove", "helped.tools", "-yes").status)
	assert.NotEqual(t, 0, skipper.domicile(t, "run", "helped", "--", "ssh", "-o", "ConnectTimeout=3", "tools", "true").status)
	known := skipper.inside(t, "helped", "cat /etc/ssh/ssh_config.d/domicile-helpers.conf")
	assert.Contains(t, known, "Host mate\n", "what was removed is known no more")
	skipper.remove(t, "stranger")
	skipper.remove(t, "helped")
	assert.Empty(t, objects(t), "the helpers go with their workspace")
}

// containerOf is the name of a workspace's container.
func containerOf(t *testing.T, name string) string {
	t.Helper()
	id := skipper.workspace(t, name).Id
	out, err := engineSays(t, "ps", "-a", "--format", "{{.Names}}", "--filter", "label=domicile.workspace=w"+itoa(id))
	require.NoError(t, err)
	return strings.Fields(out)[0]
}

// Through its door a workspace uses the engine's own client for helpers of its own, and
// gets nothing else.
func TestTheDoorToTheEngine(t *testing.T) {
	source := publish(t, "doored", `{"image": "BASE", "remoteUser": "crew", "customizations": {"domicile": {"engine": true}}}`, map[string]string{"chart.txt": "rocks"})
	require.Equal(t, 0, skipper.provision(t, source, "doored").status)
	require.Equal(t, 0, skipper.provision(t, source, "neighbour").status)
	assert.Equal(t, "unix:///run/domicile-door/engine.sock", skipper.inside(t, "doored", "echo $DOCKER_HOST"))
	socket := filepath.Join(t.TempDir(), "door.sock")
	forward := exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), "-N", "-L", socket+":/run/domicile-door/engine.sock", "doored@127.0.0.1")...)
	require.NoError(t, forward.Start())
	t.Cleanup(func() { _ = forward.Process.Kill(); _ = forward.Wait() })
	eventually(t, 10*time.Second, "the door is forwarded", func() bool { _, err := os.Stat(socket); return err == nil })
	docker := func(args ...string) (string, error) {
		c := exec.CommandContext(t.Context(), "docker", args...)
		c.Env = append(os.Environ(), "DOCKER_HOST=unix://"+socket)
		out, err := c.CombinedOutput()
		return strings.TrimSpace(string(out)), err
	}
	image := world.RegistryAt + "/skerry/base:12"
	does := func(want string, args ...string) {
		t.Helper()
		out, err := docker(args...)
		require.NoError(t, err, "%v: %s", args, out)
		assert.Contains(t, out, want, "%v", args)
	}
	does("hello from crew", "run", "--rm", "--user", "crew", image, "sh", "-c", "echo hello from $(id -un)")
	does("rocks", "run", "--rm", "-v", "source:/s:ro", image, "cat", "/s/chart.txt")
	does("", "run", "-d", "--name", "cache", "--memory", "256m", "-v", "kept:/kept", image, "sh", "-c", "echo warm > /kept/state; sleep 300")
	does("cache", "ps", "--format", "{{.Names}}")
	eventually(t, 10*time.Second, "it wrote", func() bool { out, _ := docker("exec", "cache", "cat", "/kept/state"); return out == "warm" })
	does("", "logs", "cache")
	does("kept", "volume", "ls", "-q")
	does(`"/cache"`, "inspect", "-f", "{{json .Name}}", "cache")
	assert.NotEmpty(t, skipper.inside(t, "doored", "getent hosts cache"), "reached by its name from the workspace")
	does("", "stop", "-t", "1", "cache")
	out, err := docker("ps", "-aq")
	require.NoError(t, err)
	assert.Len(t, strings.Fields(out), 1, "it sees its own helpers only")

	other := containerOf(t, "neighbour")
	own := containerOf(t, "doored")
	for _, args := range [][]string{
		{"run", "--rm", "--privileged", image, "true"}, {"run", "--rm", "-v", "/etc:/host", image, "true"}, {"run", "--rm", "--mount", "type=bind,source=/,target=/host", image, "true"},
		{"run", "--rm", "-v", "/var/run/docker.sock:/s", image, "true"}, {"run", "--rm", "--network", "host", image, "true"}, {"run", "--rm", "--pid", "host", image, "true"}, {"run", "--rm", "--ipc", "host", image, "true"},
		{"run", "--rm", "--uts", "host", image, "true"}, {"run", "--rm", "--userns", "host", image, "true"}, {"run", "--rm", "--cap-add", "SYS_ADMIN", image, "true"}, {"run", "--rm", "--device", "/dev/null", image, "true"},
		{"run", "--rm", "--security-opt", "seccomp=unconfined", image, "true"}, {"run", "--rm", "-p", "8099:80", image, "true"}, {"run", "--rm", "--volumes-from", own, image, "true"}, {"run", "--rm", "--network", "container:" + other, image, "true"},
		{"run", "--rm", "--cgroup-parent", "/", image, "true"}, {"run", "--rm", "--runtime", "other", image, "true"}, {"run", "--rm", "--label", "domicile.workspace=w1", image, "true"}, {"run", "--rm", "--security-opt", "systempaths=unconfined", image, "true"},
		{"exec", own, "true"}, {"stop", other}, {"rm", other}, {"inspect", other}, {"logs", other}, {"cp", other + ":/etc/passwd", "-"}, {"exec", "--privileged", "cache", "true"},
		{"info"}, {"images"}, {"network", "ls"}, {"network", "create", "x"}, {"system", "df"}, {"events", "--until", "1s"}, {"volume", "rm", "domicile-x"}, {"volume", "create", "--driver", "local", "--opt", "type=none", "--opt", "device=/", "--opt", "o=bind", "x"},
		{"commit", "cache", "x"}, {"rename", "cache", "x"}, {"update", "--memory", "8g", "cache"}, {"rmi", image}, {"swarm", "init"}, {"plugin", "ls"}, {"save", image}, {"tag", image, "x"}, {"run", "--rm", "domicile-state:x", "true"},
	} {
		out, err := docker(args...)
		assert.Error(t, err, "%v: %s", args, out)
		assert.NotEmpty(t, out, "%v says why", args)
	}
	said, _ := docker("run", "--rm", "-v", "/etc:/host", image, "true")
	assert.Contains(t, said, "would reach the host")
	_, err = engineSays(t, "inspect", other)
	assert.NoError(t, err, "the neighbour is as it was")
	skipper.remove(t, "neighbour")
	skipper.remove(t, "doored")
	assert.Empty(t, objects(t), "what came through the door goes with the workspace")
}

// Who is not used is told, stays where somebody says so, and stops.
func TestAWorkspaceThatNobodyUsesStops(t *testing.T) {
	serveWith(t, "-idle-stop", "8s")
	busy := publish(t, "busy", `{"image": "BASE", "remoteUser": "crew", "postStartCommand": "DOMICILE_BUSY=1 nohup sleep 300 >/dev/null 2>&1 &"}`, nil)
	require.Equal(t, 0, skipper.provision(t, busy, "busy").status)
	working := publish(t, "working", `{"image": "BASE", "remoteUser": "crew", "postStartCommand": "nohup python3 -c 'import time\nwhile True:\n  t = time.process_time()\n  while time.process_time() - t < 0.05: pass\n  time.sleep(0.25)' >/dev/null 2>&1 &"}`, nil)
	require.Equal(t, 0, skipper.provision(t, working, "working").status)
	loaded := publish(t, "loaded", `{"dockerComposeFile": "compose.yaml", "service": "work", "remoteUser": "crew"}`, map[string]string{".devcontainer/compose.yaml": "services:\n  work: { image: BASE, command: sleep infinity, depends_on: [sum] }\n" +
		"  sum: { image: BASE, command: \"python3 -c 'while True: pass'\", cpus: 0.2 }\n"})
	require.Equal(t, 0, skipper.provision(t, loaded, "loaded").status)
	never := publish(t, "never", `{"image": "BASE", "customizations": {"domicile": {"idleStop": "never"}}}`, nil)
	require.Equal(t, 0, skipper.provision(t, never, "never").status)
	source := publish(t, "idle", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "idle").status)
	terminal := openTerminal(t, "idle", "open")
	terminal.expect("Nobody has used this workspace for") // an open terminal in which nothing happens is no use
	assert.NotNil(t, skipper.workspace(t, "idle").StopsAt)
	assert.Contains(t, skipper.domicile(t, "show", "idle").out, "domicile stay idle")
	terminal.typed("true\n")
	eventually(t, 10*time.Second, "a keystroke keeps it", func() bool { return skipper.workspace(t, "idle").StopsAt == nil })
	eventually(t, 20*time.Second, "it is told again", func() bool { return skipper.workspace(t, "idle").StopsAt != nil })
	assert.Contains(t, skipper.domicile(t, "stay", "idle", "-for", "10s").out, "idle stays until")
	assert.Nil(t, skipper.workspace(t, "idle").StopsAt)
	begun := time.Now()
	eventually(t, 60*time.Second, "it stops by itself", func() bool { return skipper.workspace(t, "idle").State == client.WorkspaceStateStopped })
	assert.Greater(t, time.Since(begun), 9*time.Second, "not before it may")
	assert.Contains(t, *skipper.workspace(t, "idle").Reason, "nobody used it for")
	for _, name := range []string{"busy", "never", "working", "loaded"} {
		assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, name).State, name)
	}
	require.Equal(t, 0, skipper.domicile(t, "start", "idle").status)
	assert.Equal(t, 1, skipper.domicile(t, "stay", "nothing").status)
}
