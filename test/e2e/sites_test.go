package e2e

import (
	"context"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/daemons"
)

// A service may have several places: one is asked for, or the plan chooses and says why.
func TestSeveralSites(t *testing.T) {
	folder, err := os.MkdirTemp("", "domicile-quay-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o711), "the engine's mapped users pass through it")
	t.Cleanup(func() { os.RemoveAll(folder) })
	second, err := daemons.StartEngine(t.Context(), folder)
	require.NoError(t, err)
	t.Cleanup(second.Close)
	source := publish(t, "placed", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "placed-before").status)
	serveWith(t, "-engine", world.EngineAt+",quay="+second.Host+",reef=tcp://127.0.0.1:9")
	eventuallyReady := func() bool {
		list, err := client.Answer[[]client.Site](skipper.api.ListSites(t.Context()))
		return err == nil && len(list) == 3 && list[0].Ready && !list[1].Ready && list[2].Ready
	}
	eventually(t, 20*time.Second, "two sites answer", eventuallyReady)

	sites := skipper.domicile(t, "sites").out
	assert.Contains(t, sites, "tcp://127.0.0.1:9 does not answer")
	assert.Contains(t, sites, "connection refused")
	assert.NotContains(t, sites, "unix:///engine", "what nobody knows")
	assert.NotContains(t, sites, "reef: root of a workspace", "nobody knows it")
	assert.Contains(t, skipper.domicile(t, "tidy").out, "The site reef does not answer, and was not looked at.")
	plan := skipper.domicile(t, "plan", source)
	assert.Contains(t, plan.out, "At the site this-host: it has the image.")
	a := skipper.provision(t, source, "placed-free")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "at the site this-host: it has the image")
	a = skipper.provision(t, source, "placed-quay", "-site", "quay")
	require.Equal(t, 0, a.status, a.err)
	for name, site := range map[string]string{"placed-before": "this-host", "placed-free": "this-host", "placed-quay": "quay"} {
		assert.Equal(t, site, skipper.workspace(t, name).Site, name)
		assert.Equal(t, "crew", skipper.inside(t, name, "id -un"))
	}
	assert.Contains(t, skipper.domicile(t, "plan", source).out, "it has the fewest workspaces for its memory", "now both have the image")
	assert.Contains(t, skipper.domicile(t, "provision", source, "-name", "placed-nowhere", "-site", "shoal").err, `there is no site "shoal"`)
	impossible := publish(t, "impossible", "{\"image\": \"BASE\",\n\"hostRequirements\": {\"cpus\": 999}}", nil)
	a = skipper.provision(t, impossible, "placed-impossible")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "the site quay has")
	assert.Contains(t, a.err, "the site this-host has")
	require.Equal(t, 0, skipper.domicile(t, "remove", "placed-impossible", "-yes").status, "one without a site")

	serveWith(t) // no longer with the other two
	eventually(t, 20*time.Second, "the drained one answers", func() bool {
		list, err := client.Answer[[]client.Site](skipper.api.ListSites(t.Context()))
		return err == nil && len(list) == 3 && list[0].Ready && list[0].Drained != nil
	})
	assert.Contains(t, skipper.domicile(t, "sites").out, "quay: It takes nothing new")
	assert.Equal(t, "crew", skipper.inside(t, "placed-quay", "id -un"), "what is there goes on")
	assert.Contains(t, skipper.domicile(t, "provision", source, "-name", "placed-late", "-site", "quay").err, "the site quay takes nothing new")
	assert.NotContains(t, skipper.domicile(t, "plan", source).out, "quay")
	for name, says := range map[string]string{"quay": "something is at the site quay still", "this-host": "was given the site this-host at its start", "shoal": `there is no site "shoal"`} {
		a = skipper.domicile(t, "sites", "remove", name)
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, says)
	}
	assert.Contains(t, finn.domicile(t, "sites", "remove", "reef").err, "Only an administrator")
	assert.Contains(t, skipper.domicile(t, "sites", "reopen", "quay").err, "was not given the site quay at its last start")
	require.Equal(t, 0, skipper.domicile(t, "remove", "placed-quay", "-yes").status)
	for _, name := range []string{"quay", "reef"} {
		a = skipper.domicile(t, "sites", "remove", name)
		require.Equal(t, 0, a.status, a.err)
		assert.NotContains(t, a.out, name)
	}
}

// At a site where as many workspaces run as may, one more waits until another rests; what is kept
// warm makes way.
func TestASiteThatIsFull(t *testing.T) {
	change := func(most string) answer { return skipper.domicile(t, "sites", "change", "this-host", "-most", most) }
	assert.Contains(t, change("0").err, "no number of workspaces")
	assert.Contains(t, change("many").err, "no number of workspaces")
	assert.Contains(t, finn.domicile(t, "sites", "change", "this-host", "-most", "9").err, "administrator")
	list, err := client.Answer[[]client.Workspace](skipper.api.ListWorkspaces(t.Context(), nil))
	require.NoError(t, err)
	require.Empty(t, list, "others would count")
	source := publish(t, "berth", `{"image": "BASE"}`, nil)
	a := change("1")
	require.Equal(t, 0, a.status, a.err)
	t.Cleanup(func() {
		_ = skipper.command(context.WithoutCancel(t.Context()), "", "sites", "change", "this-host", "-most", "none").Run()
	})
	assert.Contains(t, a.out, "Of the workspaces there 1 may run at a time.")
	a = skipper.domicile(t, "prepare", source, "-keep", "1")
	require.Equal(t, 0, a.status, a.err)
	t.Cleanup(func() {
		_ = skipper.command(context.WithoutCancel(t.Context()), "", "prepare", "remove", "berth@").Run()
	})
	warm(t, 1)
	require.Equal(t, 0, skipper.provision(t, source, "berth-one").status)
	warm(t, 0)
	a = finn.provision(t, source, "berth-two")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "as many workspaces run at the site this-host as may at a time: 1")
	assert.Contains(t, finn.domicile(t, "show", "berth-two").out, "stop one there, or choose another site")
	require.Equal(t, 0, skipper.domicile(t, "stop", "berth-one").status)
	a = finn.domicile(t, "provision", source, "-name", "berth-two")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, skipper.domicile(t, "start", "berth-one").err, "as may at a time")
	require.Equal(t, 0, change("none").status)
	a = skipper.domicile(t, "start", "berth-one")
	assert.Equal(t, 0, a.status, a.err)
	skipper.remove(t, "berth-one")
	finn.remove(t, "berth-two")
}
