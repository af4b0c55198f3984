package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A Compose workspace with two features, killed at the start of each of its own steps.
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
	for i, step := range steps {
		if slices.Contains([]string{"fetch", "read", "plan", "volume", "ready"}, step) {
			continue // TestAKilledServiceGoesOnWhereItWas kills these; nothing of Compose is in them
		}
		t.Run(step, func(t *testing.T) {
			name := fmt.Sprintf("storm-%d", i)
			t.Cleanup(func() { skipper.remove(t, name) })
			killAt(t, name, step, func() {
				_, err := client.Answer[client.Workspace](skipper.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name}))
				require.NoError(t, err)
			})
			a := skipper.domicile(t, "follow", name)
			require.Equal(t, 0, a.status, a.err)
			assert.Len(t, everything(t), wanted, "containers, volumes and networks, nothing twice")
			assert.Equal(t, "once", strings.TrimSpace(skipper.domicile(t, "run", name, "--", "cat", "/home/crew/stages").out))
			assert.Equal(t, 0, skipper.domicile(t, "checks", name).status)
		})
	}
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
		t.Cleanup(func() { p.remove(t, name) })
		_, err := client.Answer[client.Workspace](p.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(t, err)
	}
	for i := range 30 {
		a := crew[i%5].domicile(t, "follow", fmt.Sprintf("boat-%d", i))
		assert.Equal(t, 0, a.status, a.err)
	}
	assert.Len(t, objects(t), before+60, "a container and a volume each")
}
