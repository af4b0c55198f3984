package e2e

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A machine goes on while the host's engine is started again, and what runs in it; it has another way out
// soon after, for the one that it had was a network of that engine's.
func TestPlacesTheEngineOfTheHostStartsAgain(t *testing.T) {
	serveWith(t, "-machines", machineImage(t))
	source := publish(t, "steady", `{"image": "BASE", "remoteUser": "crew"}`, map[string]string{"deck": "planks\n"})
	a := skipper.provision(t, source, "steady", "-site", "machines", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	t.Cleanup(func() { forget(t, "steady") })
	hails := "timeout 20 python3 -c 'import socket; print(socket.create_connection((" + listenOutside(t) + "), 15).recv(9).decode())'"
	require.Equal(t, "ahoy", skipper.inside(t, "steady", hails))
	skipper.inside(t, "steady", "setsid -f sleep 4242 </dev/null >/dev/null 2>&1; echo mine > deck")
	const program = "ps -eo pid=,args= | grep '[s]leep 4242'"
	before := skipper.inside(t, "steady", program)

	world.Engine.Stop()
	back := false
	t.Cleanup(func() {
		if !back { // the tests that follow need it
			_ = world.Engine.Start(context.WithoutCancel(t.Context()))
		}
	})
	assert.Equal(t, before, skipper.inside(t, "steady", program), "it is reached without that engine")
	require.NoError(t, world.Engine.Start(t.Context()))
	back = true
	began := time.Now()
	eventually(t, 3*time.Minute, "it has a way out again", func() bool {
		a := skipper.domicile(t, "run", "steady", "--", "sh", "-c", hails)
		return a.status == 0 && a.out == "ahoy\n"
	})
	t.Logf("a way out again after %s", time.Since(began).Round(100*time.Millisecond))
	assert.Equal(t, before, skipper.inside(t, "steady", program), "the program that ran goes on")
	assert.Equal(t, "mine", skipper.inside(t, "steady", "cat deck"))
	assert.Contains(t, skipper.domicile(t, "log", "steady").out, "wakes with another way out", "and it is said")

	// One that wakes while the engine is away gets its way out when that is there again.
	require.Equal(t, 0, skipper.domicile(t, "stop", "steady").status)
	world.Engine.Stop()
	back = false
	require.Equal(t, 0, skipper.domicile(t, "start", "steady").status)
	assert.Equal(t, before, skipper.inside(t, "steady", program), "it wakes all the same")
	assert.NotEqual(t, 0, skipper.domicile(t, "run", "steady", "--", "sh", "-c", hails).status)
	require.NoError(t, world.Engine.Start(t.Context()))
	back = true
	eventually(t, 3*time.Minute, "it has a way out", func() bool {
		a := skipper.domicile(t, "run", "steady", "--", "sh", "-c", hails)
		return a.status == 0 && a.out == "ahoy\n"
	})
	assert.Equal(t, before, skipper.inside(t, "steady", program))
}
