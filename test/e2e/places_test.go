package e2e

import (
	"fmt"
	"io/fs"
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

// What is tried in all places takes longer than scripts/test has time for: scripts/test places runs
// the tests whose names begin with TestPlaces.

// machineImage makes what machines begin with.
func machineImage(t *testing.T) string {
	t.Helper()
	image := filepath.Join(t.TempDir(), "image")
	out, err := exec.CommandContext(t.Context(), "../../scripts/machine-image", image).CombinedOutput()
	require.NoError(t, err, string(out))
	return image
}

// ready waits until the named sites answer.
func ready(t *testing.T, names ...string) {
	t.Helper()
	eventually(t, 90*time.Second, "the sites answer", func() bool {
		list, err := client.Answer[[]client.Site](skipper.api.ListSites(t.Context()))
		there := 0
		for _, s := range list {
			if s.Ready && strings.Contains(" "+strings.Join(names, " ")+" ", " "+s.Name+" ") {
				there++
			}
		}
		return err == nil && there == len(names)
	})
}

// The same definition at an engine of the service's host, at one behind SSH, in a machine and in a
// rented instance: the same checks, ways in and files; and from each to the next with a change in
// hand.
func TestPlacesTheCircle(t *testing.T) {
	image := machineImage(t)
	flags, err := world.StartProvider(t.Context(), image, 0, 0)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, world.Provider.Stop())
		world.Provider = nil
	})
	folder, err := os.MkdirTemp("", "domicile-skiff-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o711))
	t.Cleanup(func() { os.RemoveAll(folder) })
	serveWith(t, append(flags, "-machines", image)...)
	second, _ := skiff(t, folder)
	a := skipper.domicile(t, "sites", "add", "rented", world.Provider.Address, "-key", world.Provider.KeyFile)
	require.Equal(t, 0, a.status, a.err)
	circle := []string{"this-host", "skiff", "machines", "rented"}
	ready(t, circle...)

	source := publish(t, "circle", `{"image": "BASE", "remoteUser": "crew", "mounts": ["type=volume,source=hold,target=/hold"], "forwardPorts": [8080], "onCreateCommand": "echo made >> ~/made",
		"postStartCommand": "nohup python3 -m http.server 8080 > /dev/null 2>&1 &",
		"customizations": {"domicile": {"checks": {"made": {"command": "cat ~/made", "equals": "made"}, "python": "python3 --version"}}}}`, map[string]string{"deck": "planks\n"})
	var proofs []string
	for _, at := range circle {
		name := "circle-" + at
		began := time.Now()
		a := skipper.provision(t, source, name, "-site", at)
		require.Equal(t, 0, a.status, "%s: %s", at, a.err)
		t.Logf("%s: ready after %s", at, time.Since(began).Round(100*time.Millisecond))
		proofs = append(proofs, skipper.inside(t, name, "id -un; pwd; cat deck; cat ~/made"))
		assert.Equal(t, strings.ReplaceAll(proofs[0], "circle-this-host", name), proofs[len(proofs)-1], at)
		a = skipper.domicile(t, "checks", name)
		assert.Equal(t, 0, a.status, a.out+a.err)
		skipper.remove(t, name)
	}

	require.Equal(t, 0, skipper.provision(t, source, "wanderer", "-site", "this-host").status)
	t.Cleanup(func() { forget(t, "wanderer") })
	skipper.inside(t, "wanderer", "echo new >> deck; echo mine > untracked; echo barrels > /tmp/x; sudo -n cp /tmp/x /hold/crate 2>/dev/null || true; echo 'haul away' >> ~/.bash_history; head -c 4000000 /dev/urandom > cargo; sha256sum cargo > ~/cargo")
	for n := range 2 * len(circle) {
		to := circle[(n+1)%len(circle)]
		began := time.Now()
		a := skipper.domicile(t, "move", "wanderer", "-site", to)
		require.Equal(t, 0, a.status, "to %s: %s", to, a.err)
		t.Logf("to %s: %s", to, time.Since(began).Round(100*time.Millisecond))
		assert.Equal(t, to, skipper.workspace(t, "wanderer").Site)
		assert.Equal(t, "M deck\n?? cargo\n?? untracked\nmade\nhaul away\ncargo: OK", skipper.inside(t, "wanderer", "git status --short; cat ~/made; tail -1 ~/.bash_history; sha256sum -c ~/cargo"), to)
		a = skipper.domicile(t, "checks", "wanderer")
		assert.Equal(t, 0, a.status, a.out+a.err)
	}
	require.Equal(t, 0, skipper.domicile(t, "remove", "wanderer", "-yes").status)
	forget(t, "wanderer")
	for _, engine := range []string{world.EngineAt, second.Host} {
		left, err := dockerAt(t, engine, "images", "-q", "domicile-state")
		require.NoError(t, err)
		assert.Empty(t, left, "nothing is kept that nobody knows of")
	}
	processes, _ := exec.CommandContext(t.Context(), "pgrep", "-af", "qemu-system.*"+"domicile-w").CombinedOutput()
	assert.Empty(t, string(processes), "no machine is left")
	require.Equal(t, 0, skipper.domicile(t, "sites", "drain", "rented").status)
	eventually(t, 90*time.Second, "the site is forgotten", func() bool { return skipper.domicile(t, "sites", "remove", "rented").status == 0 })
	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}

// What is prepared in machines is in the template that the next ones come from.
func TestPlacesPreparedInMachines(t *testing.T) {
	serveWith(t, "-machines", machineImage(t))
	ready(t, "machines")
	source := publish(t, "provident", `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo made >> ~/made; echo work > work", "postCreateCommand": "echo mine >> ~/made"}`, map[string]string{"deck": "planks\n"})
	a := skipper.domicile(t, "prepare", source, "-site", "machines", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	for _, name := range []string{"provident", "provident-too"} {
		began := time.Now()
		a = skipper.provision(t, source, name, "-site", "machines", "-size", "small")
		require.Equal(t, 0, a.status, a.err)
		t.Logf("%s: %s", name, time.Since(began).Round(100*time.Millisecond))
		assert.Equal(t, "made\nmine\nplanks\nwork", skipper.inside(t, name, "cat ~/made deck work"))
		assert.Contains(t, a.out+a.err, "begins with what was prepared for this commit")
	}
	a = skipper.domicile(t, "snapshots", "keep", "provident", "-note", "in a machine")
	require.Equal(t, 0, a.status, a.err)
	t.Cleanup(func() { forget(t, "provident") })
	skipper.inside(t, "provident", "rm deck")
	require.Equal(t, 0, skipper.domicile(t, "stop", "provident").status)
	list, err := client.Answer[[]client.Snapshot](skipper.api.ListSnapshots(t.Context()))
	require.NoError(t, err)
	a = skipper.domicile(t, "snapshots", "return", "provident", fmt.Sprint(list[0].Id), "-yes")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "planks", skipper.inside(t, "provident", "cat deck"))
	for _, name := range []string{"provident", "provident-too"} {
		skipper.remove(t, name)
	}
	forget(t, "provident")
	a = skipper.domicile(t, "prepare", "remove", strings.Fields(lineWith(skipper.domicile(t, "prepare").out, "provident"))[0])
	require.Equal(t, 0, a.status, a.err+skipper.domicile(t, "prepare").out)
	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}

func lineWith(text, word string) string {
	for line := range strings.Lines(text) {
		if strings.Contains(line, word) {
			return line
		}
	}
	return "none"
}

// A machine whose process is killed at any step ends as it should: the step is tried again, or says
// why; nothing is doubled.
func TestPlacesAMachineIsKilled(t *testing.T) {
	serveWith(t, "-machines", machineImage(t))
	ready(t, "machines")
	source := publish(t, "foundered", `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo made >> ~/made", "postStartCommand": "echo begun >> ~/begun",
		"customizations": {"domicile": {"checks": {"made": {"command": "cat ~/made", "equals": "made"}}}}}`, map[string]string{"deck": "planks\n"})
	require.Equal(t, 0, skipper.provision(t, source, "foundered", "-site", "machines", "-size", "small").status) // the template is there from here on
	skipper.remove(t, "foundered")
	kill := func() { _ = exec.CommandContext(t.Context(), "pkill", "-9", "-f", "qemu-system.*domicile-w").Run() }
	for n, step := range []string{"container", "agent", "source", "onCreateCommand", "ready", "postStartCommand", "checks"} {
		name := fmt.Sprintf("foundered-%d", n)
		strikeAt(t, name, step, kill, func() error {
			_, err := client.Answer[client.Workspace](skipper.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name, Site: new("machines"), Size: new("small")}))
			return err
		})
		a := skipper.domicile(t, "follow", name)
		require.Equal(t, 0, a.status, "killed at %s: %s", step, a.out+a.err)
		if step == "checks" { // that was over before
			eventually(t, 180*time.Second, "it is started again", func() bool { return skipper.domicile(t, "run", name, "--", "true").status == 0 })
		}
		assert.Equal(t, "planks\nmade", skipper.inside(t, name, "cat deck ~/made"), "nothing that was noted is lost: %s", step)
		skipper.remove(t, name)
	}
	// One that sleeps, whose memory is spoiled: it boots, and its files are there.
	require.Equal(t, 0, skipper.provision(t, source, "foundered", "-site", "machines", "-size", "small").status)
	skipper.inside(t, "foundered", "echo mine > mine; sync")
	require.Equal(t, 0, skipper.domicile(t, "stop", "foundered").status)
	memory := ""
	require.NoError(t, filepath.WalkDir(world.Folder(), func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Name() == "memory.s2" {
			memory = path
		}
		return nil // what goes meanwhile is not looked at
	}))
	require.NotEmpty(t, memory)
	require.NoError(t, os.Truncate(memory, 1000))
	a := skipper.domicile(t, "start", "foundered")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, world.Service.LastWords(), "does not come to run in one way (it goes on where it was)", "the service tells it")
	assert.Equal(t, "mine", skipper.inside(t, "foundered", "cat mine"), "it booted from its disk")
	kill() // while it runs and nobody watches
	eventually(t, 180*time.Second, "it is started again", func() bool { return skipper.domicile(t, "run", "foundered", "--", "true").status == 0 })
	assert.Equal(t, "mine", skipper.inside(t, "foundered", "cat mine"))
	skipper.remove(t, "foundered")
	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}

func lastLine(text string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	return lines[len(lines)-1]
}

// Twenty machines on one host: most of them sleep, and none is woken to be listed.
func TestPlacesTwentyMachines(t *testing.T) {
	serveWith(t, "-machines", machineImage(t))
	ready(t, "machines")
	source := publish(t, "flotilla", `{"image": "BASE", "remoteUser": "crew"}`, map[string]string{"deck": "planks\n"})
	const many = 20
	began := time.Now()
	for n := range many {
		name := fmt.Sprintf("flotilla-%d", n)
		a := skipper.provision(t, source, name, "-site", "machines", "-size", "small")
		require.Equal(t, 0, a.status, a.err)
		skipper.inside(t, name, "echo "+name+" > own")
		if n >= 3 {
			require.Equal(t, 0, skipper.domicile(t, "stop", name).status)
		}
	}
	t.Logf("%d machines made: %s", many, time.Since(began).Round(time.Second))
	began = time.Now()
	assert.Equal(t, many, strings.Count(skipper.domicile(t, "list").out, "flotilla-"))
	t.Logf("listed: %s", time.Since(began).Round(time.Millisecond))
	running, err := exec.CommandContext(t.Context(), "pgrep", "-cf", "qemu-system.*domicile-w").Output()
	require.NoError(t, err)
	assert.Equal(t, "3", strings.TrimSpace(string(running)))
	for _, n := range []int{3, 11, 19} {
		name := fmt.Sprintf("flotilla-%d", n)
		require.Equal(t, 0, skipper.domicile(t, "start", name).status)
		assert.Equal(t, name, skipper.inside(t, name, "cat own"))
	}
	for n := range many {
		skipper.remove(t, fmt.Sprintf("flotilla-%d", n))
	}
	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}
