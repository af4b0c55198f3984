package e2e

import (
	"fmt"
	"net"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A workspace with a machine of its own is like any other, may ask for more, and sleeps with all
// that runs in it; nothing of the service's host is reached from it.
func TestPlacesAMachineOfItsOwn(t *testing.T) {
	image := machineImage(t)
	serveWith(t, "-machines", image)
	eventually(t, 60*time.Second, "the machines are looked at", func() bool {
		list, err := client.Answer[[]client.Site](skipper.api.ListSites(t.Context()))
		return err == nil && len(list) == 2 && list[0].Name == "machines" && list[0].Ready
	})
	sites := skipper.domicile(t, "sites").out
	assert.Regexp(t, `machines +vm +ready.*QEMU [0-9.]+, (software emulation|hardware acceleration)`, sites)
	assert.Contains(t, sites, "machines: Each workspace has a machine of its own there")

	source := publish(t, "sailing", `{"image": "BASE", "remoteUser": "crew", "privileged": true, "forwardPorts": [8080], "containerEnv": {"TIDE": "flood"},
		"postCreateCommand": "echo made > made", "postStartCommand": "nohup python3 -m http.server 8080 > /dev/null 2>&1 &",
		"customizations": {"domicile": {"screen": "1280x800", "checks": {"python": {"command": "python3 --version"}}}}}`, map[string]string{"deck": "planks\n"})
	planned := skipper.domicile(t, "plan", source, "-site", "machines").out
	assert.Contains(t, planned, "it asks to be privileged: allowed, because this machine is yours alone.")
	assert.Contains(t, skipper.domicile(t, "plan", source, "-site", "this-host").out, "it asks to be privileged, which this site does not allow")
	assert.Contains(t, skipper.domicile(t, "plan", source).out, "Not at this-host: it cannot: ", "the place is chosen that can")
	assert.NotContains(t, skipper.domicile(t, "check", source).out, "which this site does not allow", "there is a place that gives it")

	a := skipper.provision(t, source, "sailing", "-site", "machines", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "crew", skipper.inside(t, "sailing", "id -un"))
	assert.Equal(t, "made\nplanks\nflood", skipper.inside(t, "sailing", "cat made deck; echo $TIDE"))
	eventually(t, 60*time.Second, "the program that postStartCommand left behind serves", func() bool { // software emulation takes its time
		a := skipper.domicile(t, "run", "sailing", "--", "python3", "-c", `import urllib.request as r; print(r.urlopen("http://127.0.0.1:8080/deck").read().decode())`)
		return a.status == 0 && strings.TrimSpace(a.out) == "planks"
	})
	w := skipper.workspace(t, "sailing")
	require.NotNil(t, w.Checks)
	assert.True(t, (*w.Checks)[0].Ok)

	// Nothing of the host: neither what listens there, nor its own network.
	for _, host := range []string{"10.0.2.2", "127.0.0.1"} {
		_, port, _ := strings.Cut(strings.TrimPrefix(world.Service.URL, "http://"), ":")
		said := skipper.inside(t, "sailing", "timeout 5 python3 -c 'import socket; socket.create_connection((\""+host+"\", "+port+"), 3); print(\"reached\")' 2>&1 || true")
		assert.NotContains(t, said, "reached", host)
	}

	// The world: as a container has it.
	outside := listenOutside(t)
	assert.Equal(t, "ahoy", skipper.inside(t, "sailing", "timeout 20 python3 -c 'import socket; print(socket.create_connection(("+outside+"), 15).recv(9).decode())'"))
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(world.Service.LastWords())
		}
	})

	paintsAScreen(t, "sailing")

	// It sleeps, and goes on with the programs that ran.
	server := "ps -eo pid=,args= | grep '[h]ttp.server 8080' | sort -n | head -1"
	pid := skipper.inside(t, "sailing", server)
	require.NotEmpty(t, pid)
	a = skipper.domicile(t, "stop", "sailing")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, client.WorkspaceState("stopped"), skipper.workspace(t, "sailing").State)
	a = skipper.domicile(t, "start", "sailing")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, skipper.inside(t, "sailing", server), pid, "the program that ran")
	assert.Equal(t, lantern, shown(t, "sailing"), "what it showed")

	// The service goes and comes: the machine goes on.
	serveWith(t, "-machines", image)
	eventually(t, 60*time.Second, "it is reached again", func() bool { return skipper.domicile(t, "run", "sailing", "--", "true").status == 0 })
	assert.Contains(t, skipper.inside(t, "sailing", server), pid)

	// A second one is a clone of the template.
	began := time.Now()
	a = skipper.provision(t, source, "sailing-too", "-site", "machines", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	t.Logf("a second one: %s", time.Since(began))
	one, other := skipper.inside(t, "sailing", "head -c 16 /dev/urandom | xxd -p; cat /proc/sys/kernel/random/uuid"), skipper.inside(t, "sailing-too", "head -c 16 /dev/urandom | xxd -p; cat /proc/sys/kernel/random/uuid")
	assert.NotEqual(t, one, other)

	// One that the service was given rests and comes back by command.
	require.Equal(t, 0, skipper.domicile(t, "sites", "drain", "machines").status)
	assert.Contains(t, skipper.domicile(t, "plan", source, "-site", "machines").err, "takes nothing new")
	a = skipper.domicile(t, "sites", "reopen", "machines")
	require.Equal(t, 0, a.status, a.err)
	assert.NotContains(t, a.out, "drained")

	// A helper is beside it, in its machine.
	a = skipper.domicile(t, "helper", "sailing", "-image", world.RegistryAt+"/skerry/base:12", "-as", "mate", "-share")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "mate root planks", skipper.inside(t, "sailing", "echo $(ssh mate 'hostname; id -un; cat deck')"))
	assert.Contains(t, skipper.inside(t, "sailing", "ssh mate getent hosts sailing"), "sailing")
	assert.Equal(t, "mate", strings.TrimSpace(skipper.domicile(t, "run", "sailing.mate", "--", "hostname").out), "from outside")
	require.Equal(t, 0, skipper.domicile(t, "stop", "sailing").status)
	assert.Equal(t, client.WorkspaceStateStopped, skipper.workspace(t, "sailing.mate").State)
	require.Equal(t, 0, skipper.domicile(t, "start", "sailing").status)
	assert.Equal(t, "mate", skipper.inside(t, "sailing", "ssh mate hostname"), "it is known again")
	require.Equal(t, 0, skipper.domicile(t, "remove", "sailing.mate", "-yes").status)
	assert.NotContains(t, skipper.inside(t, "sailing", "cat /etc/hosts"), "mate", "its name is gone with it")

	skipper.remove(t, "sailing-too")

	// From an engine into a machine, with a change in hand, and back.
	wanderer := publish(t, "wanderer", `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo made >> ~/made", "customizations": {"domicile": {"checks": {"made": {"command": "cat ~/made", "equals": "made"}}}}}`, map[string]string{"deck": "planks\n"})
	require.Equal(t, 0, skipper.provision(t, wanderer, "wanderer", "-site", "this-host", "-size", "small").status)
	t.Cleanup(func() { forget(t, "wanderer") })
	skipper.inside(t, "wanderer", "echo new >> deck; echo mine > untracked; echo 'haul away' >> ~/.bash_history; head -c 4000000 /dev/urandom > cargo; sha256sum cargo > ~/cargo")
	a = skipper.domicile(t, "move", "wanderer", "-site", "machines")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "machines", skipper.workspace(t, "wanderer").Site)
	same := func() {
		t.Helper()
		assert.Equal(t, "M deck\n?? cargo\n?? untracked\nmade\nhaul away\ncargo: OK", skipper.inside(t, "wanderer", "git status --short; cat ~/made; tail -1 ~/.bash_history; sha256sum -c ~/cargo"))
		a := skipper.domicile(t, "checks", "wanderer")
		assert.Equal(t, 0, a.status, a.out+a.err)
	}
	same()
	assert.Empty(t, allOf(t, world.EngineAt, skipper.workspace(t, "wanderer").Id))
	a = skipper.domicile(t, "move", "wanderer", "-site", "this-host")
	require.Equal(t, 0, a.status, a.err)
	same()
	skipper.remove(t, "wanderer")
	forget(t, "wanderer")
	left, err := engineSays(t, "images", "-q", "domicile-state")
	require.NoError(t, err)
	assert.Empty(t, left, "nothing is kept that nobody knows of")
	composed := publish(t, "sailing-composed", `{"dockerComposeFile": "compose.yaml", "service": "deck"}`, map[string]string{".devcontainer/compose.yaml": "services:\n  deck: {image: BASE, command: sleep infinity}\n  hold: {image: BASE, command: sleep infinity}\n"})
	a = skipper.provision(t, composed, "sailing-composed", "-site", "machines", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	assert.Regexp(t, `hold +running +\S+/skerry/base`, skipper.domicile(t, "services", "sailing-composed").out)
	assert.Contains(t, skipper.inside(t, "sailing-composed", "getent hosts hold"), "hold", "by its name, on a network in the machine")
	assert.Empty(t, allOf(t, world.EngineAt, skipper.workspace(t, "sailing-composed").Id), "nothing of it is beside the machine")
	skipper.remove(t, "sailing-composed")
	require.Equal(t, 0, skipper.domicile(t, "remove", "sailing", "-yes").status)
	processes, _ := exec.CommandContext(t.Context(), "pgrep", "-af", "qemu-system.*"+"domicile-w").CombinedOutput()
	assert.Empty(t, string(processes), "no machine is left")
	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}

// listenOutside greets whoever comes to this machine's address in its network, which is given as
// Python writes it.
func listenOutside(t *testing.T) string {
	t.Helper()
	addresses, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range addresses {
		at, is := a.(*net.IPNet)
		if !is || at.IP.To4() == nil || !at.IP.IsGlobalUnicast() {
			continue
		}
		l, err := net.Listen("tcp", net.JoinHostPort(at.IP.String(), "0"))
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = conn.Write([]byte("ahoy"))
				conn.Close()
			}
		}()
		host, port, err := net.SplitHostPort(l.Addr().String())
		require.NoError(t, err)
		return fmt.Sprintf("\"%s\", %s", host, port)
	}
	t.Fatal("this machine has no address in a network")
	return ""
}
