package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/moby/sys/mount"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/records"
)

// survivor takes long enough in each lifecycle stage to be caught in it, and notes how
// often each stage ran.
const survivor = `{ "image": "BASE", "remoteUser": "crew",
  "onCreateCommand": "echo onCreate >> ~/stages; sleep 1; echo onCreate is over",
  "postCreateCommand": { "one": "echo one >> ~/stages; sleep 1", "two": "echo two >> ~/stages" },
  "postStartCommand": "echo postStart >> ~/stages; sleep 1" }`

// killAt kills the service as soon as the run's step begins, or is seen to have begun, and
// starts it again.
func killAt(t *testing.T, workspace, step string, act func() error) {
	t.Helper()
	strikeAt(t, workspace, step, func() { world.Service.Kill() }, act)
	require.NoError(t, world.StartService(t.Context()))
}

// strikeAt does something bad as soon as the run's step begins, or is seen to have begun:
// some are over before it is looked.
func strikeAt(t *testing.T, workspace, step string, strike func(), act func() error) {
	t.Helper()
	store, err := records.Open(t.Context(), world.Postgres.URL)
	require.NoError(t, err)
	defer store.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute) // beside all the others a step waits for its turn
	defer cancel()
	listening, reached := make(chan struct{}), make(chan struct{})
	var once sync.Once
	go func() {
		defer close(reached)
		_ = store.Listen(ctx, func() { close(listening) }, func(e records.Event) {
			if e.Type != "step" || e.Workspace != workspace {
				return
			}
			steps, err := store.Steps(ctx, e.Run)
			for _, s := range steps {
				if err == nil && s.Name == step && s.State != records.Waiting {
					once.Do(func() {
						strike()
						cancel()
					})
				}
			}
		})
	}()
	<-listening
	asked := act() // its answer may be lost: the step can begin before it is on its way
	<-reached
	require.ErrorIs(t, ctx.Err(), context.Canceled, "the step %s was reached (%v)", step, asked)
}

func TestAKilledServiceGoesOnWhereItWas(t *testing.T) {
	source := publish(t, "survivor", survivor, nil)
	require.Equal(t, 0, skipper.provision(t, source, "undisturbed").status)
	wanted := len(objects(t))
	steps := []string{"fetch", "read", "plan", "image", "volume", "container", "agent", "source", "onCreateCommand", "ready", "postCreateCommand", "postStartCommand"}
	var names []string
	for _, s := range skipper.workspace(t, "undisturbed").Run.Steps {
		names = append(names, s.Name)
	}
	require.Equal(t, steps, names, "every step is tried")
	skipper.remove(t, "undisturbed")
	for i, step := range steps {
		t.Run(step, func(t *testing.T) {
			name := fmt.Sprintf("survivor-%d", i)
			t.Cleanup(func() { skipper.remove(t, name) })
			killAt(t, name, step, func() error {
				_, err := client.Answer[client.Workspace](skipper.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name}))
				return err
			})
			a := skipper.domicile(t, "follow", name)
			require.Equal(t, 0, a.status, a.err)
			assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, name).State)
			assert.Len(t, objects(t), wanted, "nothing is there twice")
			stages := strings.Fields(skipper.domicile(t, "run", name, "--", "sort", "/home/crew/stages").out)
			assert.Equal(t, []string{"onCreate", "one", "postStart", "two"}, stages, "no command ran twice")
			assert.Contains(t, skipper.domicile(t, "log", name).out, "onCreate is over")
		})
	}
}

func TestTerminalsAndProgramsOutliveTheService(t *testing.T) {
	source := publish(t, "deck", probe, nil)
	require.Equal(t, 0, skipper.provision(t, source, "outlive").status)
	require.Equal(t, 0, skipper.ssh(t, "", "outlive@127.0.0.1", "nohup sleep 300 >/dev/null 2>&1 & echo $! > ~/pid").status)
	first := openTerminal(t, "outlive", "work")
	first.typed("echo begun-$((1+1)); n=0; while [ ! -e ~/go-on ]; do sleep 0.1; done; echo meanwhile-$((2+2))\n")
	first.expect("begun-2")
	world.Service.Kill()
	require.NoError(t, world.StartService(t.Context()))
	assert.Equal(t, 0, skipper.ssh(t, "", "outlive@127.0.0.1", "kill -0 $(cat ~/pid)").status, "the program still runs")
	assert.Equal(t, 0, skipper.ssh(t, "", "outlive@127.0.0.1", "touch ~/go-on").status)
	second := openTerminal(t, "outlive", "work")
	second.expect("begun-2")
	second.expect("meanwhile-4")
	second.typed("exit 3\n")
	second.expectExit(3)
	assert.Contains(t, skipper.domicile(t, "shell", "outlive", "-list").out, "No terminal is open")
}

// counts prints numbers, quickly and one at a time, and what is typed.
const counts = `import os, sys, threading, time
def heard():
    for line in sys.stdin: os.write(1, b"heard-" + line.encode())
threading.Thread(target=heard, daemon=True).start()
for i in range(10000, 30000):
    os.write(1, b"%d\n" % i)
    time.sleep(0.0002)
os.write(1, b"counted\n")
`

// Where the service is killed in the middle of what a terminal prints, none of it is missing for who comes
// back, and none is there twice.
func TestATerminalLosesNothingWithTheService(t *testing.T) {
	source := publish(t, "ledger", probe, nil)
	require.Equal(t, 0, skipper.provision(t, source, "ledger").status)
	require.Equal(t, 0, skipper.ssh(t, counts, "ledger@127.0.0.1", "cat > ~/counter.py").status)
	first := openTerminal(t, "ledger", "count")
	first.typed("stty -echo; clear; exec python3 ~/counter.py\n")
	first.expect("10100\r\n")
	first.typed("ahoy\n") // by now, what is typed and printed goes past the agent
	first.expect("heard-ahoy")
	first.expect("15000\r\n")
	world.Service.Kill()
	require.NoError(t, world.StartService(t.Context()))
	second := openTerminal(t, "ledger", "count")
	second.expect("counted\r\n")
	_, printed, _ := strings.Cut(second.seen, "10000\r\n")
	var want strings.Builder
	for i := 10001; i < 30000; i++ {
		fmt.Fprintf(&want, "%d\r\n", i)
	}
	printed = strings.Replace(printed, "heard-ahoy\r\n", "", 1)
	assert.Equal(t, want.String()+"counted\r\n", printed)
}

func TestAnEngineThatRestarts(t *testing.T) {
	require.Equal(t, 0, skipper.provision(t, repository("timetable"), "tidal").status)
	require.Equal(t, 0, skipper.provision(t, repository("timetable"), "resting").status)
	require.Equal(t, 0, skipper.domicile(t, "stop", "resting").status)
	// An engine that is stopped while it makes a network cannot read what it has written of it.
	eventually(t, time.Minute, "no networks are just tried", func() bool {
		out, err := engineSays(t, "network", "ls", "--format", "{{.Name}}")
		return err == nil && !strings.Contains(out, "-trial-")
	})
	running, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.workspace")
	require.NoError(t, err)
	files, err := engineSays(t, "inspect", "--format", "{{.GraphDriver.Data.MergedDir}}", running)
	require.NoError(t, err, files)
	world.Engine.Stop()
	// An engine that is asked to start a container while it stops leaves its files mounted.
	require.NoError(t, os.MkdirAll(files, 0o700))
	require.NoError(t, mount.Mount("tmpfs", files, "tmpfs", ""))
	back := false
	t.Cleanup(func() {
		if !back { // the tests that follow need it
			_ = world.Engine.Start(context.WithoutCancel(t.Context()))
		}
	})
	eventually(t, 20*time.Second, "the service says that the site does not answer", func() bool {
		return strings.Contains(skipper.domicile(t, "sites").out, "not ready")
	})
	// However long it is away, what ran is started when it is back.
	eventually(t, 60*time.Second, "the workspace is out of reach", func() bool { return skipper.workspace(t, "tidal").State == client.WorkspaceStateLost })
	assert.Contains(t, skipper.domicile(t, "show", "tidal").out, "does not answer")
	require.NoError(t, world.Engine.Start(t.Context()))
	back = true
	eventually(t, 40*time.Second, "the workspace is started again", func() bool { return skipper.workspace(t, "tidal").State == client.WorkspaceStateReady })
	eventually(t, 20*time.Second, "and does its work", func() bool {
		return skipper.domicile(t, "run", "tidal", "--", "python3", "-c", "import urllib.request as u; u.urlopen('http://127.0.0.1:8080/sailings')").status == 0
	})
	assert.Equal(t, client.WorkspaceStateStopped, skipper.workspace(t, "resting").State, "what was stopped stays so")
}

func TestADatabaseThatIsGoneForAWhile(t *testing.T) {
	source := publish(t, "survivor", survivor, nil)
	require.Equal(t, 0, skipper.provision(t, source, "dry", "-detach").status)
	world.Postgres.Stop()
	status, code := skipper.request(t, "GET", "/api/v1/workspaces", "")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.Equal(t, "database-unavailable", code)
	a := skipper.domicile(t, "list")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "database does not answer")
	assert.Contains(t, a.err, "try again")
	require.NoError(t, world.Postgres.Start(t.Context()))
	eventually(t, 10*time.Second, "requests are answered again", func() bool {
		status, _ := skipper.request(t, "GET", "/api/v1/workspaces", "")
		return status == http.StatusOK
	})
	require.Equal(t, 0, skipper.domicile(t, "follow", "dry").status)
	assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, "dry").State)
}

func TestAFailedStepIsGoneOnFrom(t *testing.T) {
	definition := `{ "image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo made >> ~/made",
	  "postCreateCommand": "echo looking for the chart; test -e ~/chart || { echo no chart here >&2; exit 3; }", "waitFor": "postCreateCommand" }`
	source := publish(t, "chart", definition, nil)
	a := skipper.provision(t, source, "chart")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "no chart here")
	assert.Contains(t, a.err, "postCreateCommand failed")
	assert.Contains(t, a.err, "exit status 3")
	w := skipper.workspace(t, "chart")
	assert.Equal(t, client.WorkspaceStateFailed, w.State)
	assert.Contains(t, *w.Reason, "postCreateCommand failed")
	assert.Contains(t, skipper.ssh(t, "", "chart@127.0.0.1", "true").err, "domicile log chart")
	// What was missing comes to be; the container is the same, and is not made again.
	name := strings.TrimSpace(objects(t)[0])
	out, err := dockerExec(t, name, "touch", "/home/crew/chart")
	require.NoError(t, err, out)
	a = skipper.domicile(t, "provision", source, "-name", "chart")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "made\n", skipper.domicile(t, "run", "chart", "--", "cat", "/home/crew/made").out, "onCreateCommand did not run again")
	states := map[string]client.StepState{}
	for _, s := range skipper.workspace(t, "chart").Run.Steps {
		states[s.Name] = s.State
	}
	for _, name := range []string{"image", "volume", "container", "source", "onCreateCommand"} {
		assert.Equal(t, client.StepStateSkipped, states[name], name)
	}
}

func TestAProgramThatPrintsAHundredMegabytes(t *testing.T) {
	source := publish(t, "loud", `{ "image": "BASE", "remoteUser": "crew", "onCreateCommand": "seq -f %0799.0f 1 125000; echo the end" }`, nil)
	a := skipper.provision(t, source, "loud")
	require.Equal(t, 0, a.status)
	var log struct{ Lines []client.LogLine }
	require.NoError(t, json.Unmarshal([]byte(skipper.domicile(t, "log", "loud", "-step", "onCreateCommand", "-json").out), &log))
	assert.Less(t, len(log.Lines), 12000)
	text := make([]string, len(log.Lines))
	for i, l := range log.Lines {
		text[i] = l.Text
	}
	assert.Equal(t, strings.Repeat("0", 798)+"3", text[3])
	assert.Equal(t, "the end", text[len(text)-1])
	assert.Contains(t, strings.Join(text, "\n"), "lines left out")
	c := skipper.command(t.Context(), "", "run", "loud", "--", "seq", "-f", "%0799.0f", "1", "125000").Cmd
	printed := new(counter)
	c.Stdout = printed
	require.NoError(t, c.Run())
	assert.EqualValues(t, 100_000_000, *printed, "nothing is lost on the way to the person")
}

type counter int64

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}
