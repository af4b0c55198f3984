package e2e

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// Two services of one host share all places: an engine, machines and rented instances. One of them
// is killed in the middle of twenty runs, and all twenty end, each stage having run once.
func TestPlacesTwoReplicas(t *testing.T) {
	image := machineImage(t)
	flags, err := world.StartProvider(t.Context(), image, 0, 0)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.NoError(t, world.Provider.Stop())
		world.Provider = nil
	})
	flags = append(flags, "-machines", image)
	serveWith(t, flags...)
	a := skipper.domicile(t, "sites", "add", "rented", world.Provider.Address, "-key", world.Provider.KeyFile)
	require.Equal(t, 0, a.status, a.err)
	ready(t, "this-host", "machines", "rented")
	replica, err := world.StartReplica(t.Context(), flags...)
	require.NoError(t, err)
	t.Cleanup(replica.Stop)
	there, err := client.Open(replica.URL, skipper.token)
	require.NoError(t, err)

	source := publish(t, "fleet", `{"image": "BASE", "remoteUser": "crew", "postCreateCommand": "sleep 4; echo once >> ~/stages"}`, nil)
	var names []string
	for at, many := range map[string]int{"this-host": 12, "machines": 5, "rented": 3} {
		for n := range many {
			name, at, by := fmt.Sprintf("fleet-%s-%d", at, n), at, skipper.api
			if n%2 == 0 {
				by = there
			}
			names = append(names, name)
			q := client.ProvisionRequest{Source: source, Name: &name, Site: &at}
			if at == "machines" {
				q.Size = new("small")
			}
			_, err := client.Answer[client.Workspace](by.Provision(t.Context(), q))
			require.NoError(t, err)
		}
	}
	t.Cleanup(func() {
		for _, name := range names {
			_ = skipper.command(context.WithoutCancel(t.Context()), "", "remove", name, "-yes").Run()
		}
	})
	count := func(state client.WorkspaceState) (n int) {
		list, err := client.Answer[[]client.Workspace](skipper.api.ListWorkspaces(t.Context(), nil))
		require.NoError(t, err)
		for _, w := range list {
			if w.State == state {
				n++
			}
		}
		return n
	}
	eventually(t, 10*time.Minute, "half of them are made", func() bool { return count(client.WorkspaceStateReady) >= 10 })
	t.Logf("%d ready, %d being made when one service is killed", count(client.WorkspaceStateReady), count(client.WorkspaceStateMaking))
	replica.Kill()
	for _, name := range names {
		a := skipper.domicile(t, "follow", name)
		require.Equal(t, 0, a.status, "%s: %s", name, a.out+a.err)
		assert.Equal(t, "once", skipper.inside(t, name, "cat ~/stages"), name)
	}

	// What the killed one had a session with, the other stops and starts.
	for _, name := range []string{"fleet-machines-0", "fleet-rented-0"} {
		require.Equal(t, 0, skipper.domicile(t, "stop", name).status, name)
		a := skipper.domicile(t, "start", name)
		require.Equal(t, 0, a.status, "%s: %s", name, a.err)
		assert.Equal(t, "once", skipper.inside(t, name, "cat ~/stages"), name)
	}
}
