package e2e

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A Compose workspace with two features, killed at each of its steps, with the database
// and the engine restarted in the midst of it, and a registry that fails three times: each
// time it ends ready with the same objects.
func TestAKilledServiceGoesOnWithComposeAndFeatures(t *testing.T) {
	definition := `{"dockerComposeFile": "compose.yaml", "service": "work", "workspaceFolder": "/src", "remoteUser": "crew",
		"features": {"` + world.FeaturesAt() + `/tide:2": {}, "` + world.FeaturesAt() + `/lamp:1": {}}, "postCreateCommand": "echo once >> ~/stages",
		"customizations": {"domicile": {"checks": {"tide": "tide"}}}}`
	source := publish(t, "survivors", definition, map[string]string{".devcontainer/compose.yaml": `
services:
  work: { image: BASE, command: sleep infinity, volumes: ["..:/src"], depends_on: { tower: { condition: service_healthy } } }
  tower: { image: BASE, command: sleep infinity, healthcheck: { test: [CMD, "true"], interval: 1s }, volumes: ["logs:/logs"] }
  boat: { image: BASE, command: sleep infinity, volumes: ["..:/src"], depends_on: [work] }
volumes: { logs: {} }
`})
	require.Equal(t, 0, skipper.provision(t, source, "calm").status)
	wanted := len(everything(t))
	var steps []string
	for _, s := range skipper.workspace(t, "calm").Run.Steps {
		steps = append(steps, s.Name)
	}
	require.Equal(t, []string{"fetch", "read", "plan", "image", "volume", "services", "container", "agent", "source", "late", "ready", "postCreateCommand", "checks"}, steps)
	skipper.remove(t, "calm")
	ends := func(t *testing.T, name string) {
		eventually(t, 30*time.Second, "requests are answered", func() bool { return skipper.domicile(t, "show", name).status == 0 })
		a := skipper.domicile(t, "follow", name)
		require.Equal(t, 0, a.status, a.err)
		eventually(t, 30*time.Second, "it is ready", func() bool { return skipper.workspace(t, name).State == client.WorkspaceStateReady })
		assert.Len(t, everything(t), wanted, "containers, volumes and networks, nothing twice")
		assert.Equal(t, "once", skipper.inside(t, name, "cat ~/stages"))
		assert.Equal(t, 0, skipper.domicile(t, "checks", name).status)
	}
	provision := func(t *testing.T, name string) func() error {
		t.Cleanup(func() { skipper.remove(t, name) })
		return func() error {
			_, err := client.Answer[client.Workspace](skipper.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name}))
			return err
		}
	}
	for i, step := range steps {
		t.Run(step, func(t *testing.T) {
			name := fmt.Sprintf("storm-%d", i)
			killAt(t, name, step, provision(t, name))
			ends(t, name)
		})
	}
	for _, step := range []string{"services", "source"} {
		t.Run("the database restarts at "+step, func(t *testing.T) {
			name := "flood-" + step
			strikeAt(t, name, step, func() {
				world.Postgres.Stop()
				assert.NoError(t, world.Postgres.Start(context.WithoutCancel(t.Context())))
			}, provision(t, name))
			ends(t, name)
		})
	}
	t.Run("the engine restarts", func(t *testing.T) {
		strikeAt(t, "gale", "source", func() {
			world.Engine.Stop()
			assert.NoError(t, world.Engine.Start(context.WithoutCancel(t.Context())))
		}, provision(t, "gale"))
		ends(t, "gale")
	})
	t.Run("the registry is out of order", func(t *testing.T) {
		world.Registry.Fail(3)
		require.NoError(t, provision(t, "fog")())
		ends(t, "fog")
		assert.Contains(t, skipper.domicile(t, "log", "fog").out, "trying again in")
	})
}

// Thirty at once by five accounts: all are made, none twice, and the service answers meanwhile.
func TestThirtyAtOnce(t *testing.T) {
	source := publish(t, "fleet", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	crew := []*person{skipper, finn}
	for i := range 3 {
		crew = append(crew, anotherPerson(t, fmt.Sprintf("mate-%d", i)))
	}
	before := len(objects(t))
	for i := range 30 {
		p, name := crew[i%5], fmt.Sprintf("boat-%d", i)
		_, err := client.Answer[client.Workspace](p.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(t, err)
	}
	t.Cleanup(func() { // all at once as well
		var all sync.WaitGroup
		for i := range 30 {
			all.Go(func() { crew[i%5].remove(t, fmt.Sprintf("boat-%d", i)) })
		}
		all.Wait()
	})
	for i := range 30 {
		a := crew[i%5].domicile(t, "follow", fmt.Sprintf("boat-%d", i))
		assert.Equal(t, 0, a.status, a.err)
	}
	assert.Len(t, objects(t), before+60, "a container and a volume each")
}
