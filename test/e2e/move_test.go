package e2e

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/daemons"
)

// aSecondSite serves with an engine more, the site quay, and gives the flags that it does so by.
func aSecondSite(t *testing.T) (second *daemons.Engine, flags []string) {
	t.Helper()
	folder, err := os.MkdirTemp("", "domicile-quay-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o711), "the engine's mapped users pass through it")
	t.Cleanup(func() { os.RemoveAll(folder) })
	second, err = daemons.StartEngine(t.Context(), folder)
	require.NoError(t, err)
	t.Cleanup(second.Close)
	flags = []string{"-engine", world.EngineAt + ",quay=" + second.Host + ",mirror=" + world.EngineAt}
	t.Cleanup(func() { // when it is served without them again
		for _, name := range []string{"quay", "mirror"} {
			out, err := skipper.command(context.WithoutCancel(t.Context()), "", "sites", "remove", name).output()
			assert.NoError(t, err, out)
		}
	})
	serveWith(t, flags...)
	eventually(t, 20*time.Second, "the sites answer", func() bool {
		list, err := client.Answer[[]client.Site](skipper.api.ListSites(t.Context()))
		return err == nil && len(list) == 3 && list[0].Ready && list[1].Ready && list[2].Ready
	})
	return second, flags
}

// allOf is what an engine has of a workspace.
func allOf(t *testing.T, engine string, id int64) []string {
	t.Helper()
	var all []string
	for _, args := range [][]string{{"ps", "-aq"}, {"volume", "ls", "-q"}, {"network", "ls", "-q"}} {
		out, err := dockerAt(t, engine, append(args, "--filter", "label=domicile.workspace=w"+itoa(id))...)
		require.NoError(t, err, out)
		all = append(all, strings.Fields(out)...)
	}
	return all
}

// forget removes the snapshots of a workspace.
func forget(t *testing.T, workspace string) {
	ctx := context.WithoutCancel(t.Context())
	list, err := client.Answer[[]client.Snapshot](skipper.api.ListSnapshots(ctx))
	assert.NoError(t, err)
	for _, s := range list {
		if s.Name == workspace {
			_, err := client.Answer[any](skipper.api.RemoveSnapshot(ctx, s.Id))
			assert.NoError(t, err)
		}
	}
}

func TestAWorkspaceMoves(t *testing.T) {
	second, flags := aSecondSite(t)
	source := publish(t, "mover", `{"image": "BASE", "remoteUser": "crew", "mounts": ["type=volume,source=hold,target=/hold"], "onCreateCommand": "echo made >> ~/made", "postStartCommand": "echo begun >> ~/begun",
		"customizations": {"domicile": {"checks": {"made": {"command": "cat ~/made", "equals": "made"}, "hold": "test -s /hold/crate"}}}}`, map[string]string{"deck": "planks\n"})
	require.Equal(t, 0, skipper.provision(t, source, "mover", "-site", "this-host").status)
	t.Cleanup(func() { forget(t, "mover") }) // a site that keeps them is not removed
	id := skipper.workspace(t, "mover").Id
	container, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.workspace=w"+itoa(id))
	require.NoError(t, err)
	out, err := dockerExec(t, container, "sh", "-ec", "echo barrels > /hold/crate; echo by-hand > /etc/tide")
	require.NoError(t, err, out)
	skipper.inside(t, "mover", "cd /workspaces/mover && echo new >> deck && echo mine > untracked; echo 'haul away' >> ~/.bash_history")
	same := func() {
		t.Helper()
		assert.Equal(t, "planks\nnew", skipper.inside(t, "mover", "cat /workspaces/mover/deck"))
		assert.Equal(t, "M deck\n?? untracked", skipper.inside(t, "mover", "cd /workspaces/mover && git status --short"))
		assert.Equal(t, "made\nhaul away\nbarrels\nby-hand\ncrew", skipper.inside(t, "mover", "cat ~/made; tail -1 ~/.bash_history; cat /hold/crate /etc/tide; stat -c %U ~/made"))
		a := skipper.domicile(t, "checks", "mover")
		assert.Equal(t, 0, a.status, a.out+a.err)
	}
	odd := "cd ~ && stat -c '%n %y' made old && python3 -c \"import os; print(os.getxattr('made', 'user.tide'))\""
	skipper.inside(t, "mover", "cd ~ && mkdir old && python3 -c \"import os; os.setxattr('made', 'user.tide', b'high')\" && touch -d '2020-01-02 03:04:05.123456789' made old")
	before := skipper.inside(t, "mover", odd)
	require.Contains(t, before, ".123456789")
	a := skipper.domicile(t, "move", "mover", "-site", "quay")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, before, skipper.inside(t, "mover", odd), "times and attributes come along")
	assert.Contains(t, a.out, "mover is ready at quay.")
	assert.Equal(t, "quay", skipper.workspace(t, "mover").Site)
	same()
	assert.Equal(t, "2", skipper.inside(t, "mover", "wc -l < ~/begun"), "it was started there")
	assert.Empty(t, allOf(t, world.EngineAt, id), "nothing is left where it was")
	left, err := engineSays(t, "images", "-q", "domicile-state")
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Contains(t, skipper.domicile(t, "snapshots").out, "before it went to quay")
	assert.NotContains(t, skipper.domicile(t, "tidy", "-json").out, "domicile-state", "what is kept is known")
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "mover", "-yes").status)
	require.Equal(t, 0, skipper.domicile(t, "stop", "mover").status)

	a = skipper.domicile(t, "move", "mover", "-site", "this-host")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, skipper.domicile(t, "log", "mover").out, "start a workspace before it moves to have them carried over")
	same()
	assert.Empty(t, allOf(t, second.Host, id))

	for _, c := range []struct {
		person *person
		args   []string
		says   string
	}{
		{skipper, []string{"mover", "-site", "this-host"}, "is at the site this-host already"},
		{skipper, []string{"mover", "-site", "shoal"}, `no site "shoal"`},
		{skipper, []string{"mover", "-site", "quay", "-size", "vast"}, `no size "vast"`},
		{finn, []string{"mover", "-site", "quay"}, "no workspace"},
		{skipper, []string{"mover"}, "-site is missing"},
	} {
		a := c.person.domicile(t, append([]string{"move"}, c.args...)...)
		assert.NotEqual(t, 0, a.status)
		assert.Contains(t, a.err, c.says)
	}
	// Two sites with one engine: what would be brought would replace itself.
	a = skipper.domicile(t, "move", "mover", "-site", "mirror")
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "are one engine")
	eventually(t, 40*time.Second, "it is where it was, and works", func() bool { return skipper.workspace(t, "mover").State == client.WorkspaceStateReady })
	same()

	t.Run("with services and a built image", func(t *testing.T) {
		require.Equal(t, 0, skipper.provision(t, repository("quayboard"), "board", "-site", "this-host").status)
		a := skipper.domicile(t, "move", "board", "-site", "quay")
		require.Equal(t, 0, a.status, a.err)
		a = skipper.domicile(t, "checks", "board")
		assert.Equal(t, 0, a.status, a.out+a.err)
		assert.Empty(t, allOf(t, world.EngineAt, skipper.workspace(t, "board").Id))
		a = skipper.domicile(t, "rebuild", "board", "-yes")
		require.Equal(t, 0, a.status, a.err)
		forget(t, "board")
	})
	t.Run("the service is killed", func(t *testing.T) {
		at, to := "this-host", "quay"
		for _, step := range []string{"stop", "save", "carry", "go", "container", "ready", "leave"} {
			strikeAt(t, "mover", step, func() { world.Service.Kill() }, func() error {
				_, err := client.Answer[client.Workspace](skipper.api.MoveWorkspace(t.Context(), "mover", client.MoveRequest{Site: to}))
				return err
			})
			require.NoError(t, world.StartService(t.Context(), flags...))
			a := skipper.domicile(t, "follow", "mover")
			require.Equal(t, 0, a.status, "%s: %s", step, a.err)
			require.Equal(t, to, skipper.workspace(t, "mover").Site, step)
			at, to = to, at
		}
		same()
	})
	t.Run("the other site goes", func(t *testing.T) { // it is at quay now
		require.Equal(t, "quay", skipper.workspace(t, "mover").Site)
		require.Equal(t, 0, skipper.domicile(t, "move", "mover", "-site", "this-host").status)
		strikeAt(t, "mover", "carry", second.Stop, func() error {
			_, err := client.Answer[client.Workspace](skipper.api.MoveWorkspace(t.Context(), "mover", client.MoveRequest{Site: "quay"}))
			return err
		})
		a := skipper.domicile(t, "follow", "mover")
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, "stays at this-host")
		eventually(t, 40*time.Second, "it is where it was, and works", func() bool { return skipper.workspace(t, "mover").State == client.WorkspaceStateReady })
		same()
		require.NoError(t, second.Start(context.WithoutCancel(t.Context())))
		eventually(t, 40*time.Second, "the other site answers again", func() bool { return !strings.Contains(skipper.domicile(t, "sites").out, "not ready") })
	})
	t.Run("it is stopped while it is kept", func(t *testing.T) {
		before := skipper.domicile(t, "snapshots").out
		strikeAt(t, "mover", "save", func() { skipper.domicile(t, "stop", "mover") }, func() error {
			_, err := client.Answer[client.Workspace](skipper.api.MoveWorkspace(t.Context(), "mover", client.MoveRequest{Site: "quay"}))
			return err
		})
		eventually(t, 20*time.Second, "it is stopped", func() bool { return skipper.workspace(t, "mover").State == client.WorkspaceStateStopped })
		require.Equal(t, 0, skipper.domicile(t, "start", "mover").status)
		assert.LessOrEqual(t, strings.Count(skipper.domicile(t, "snapshots").out, "\n"), strings.Count(before, "\n")+1, "half a snapshot is not one")
		assert.NotContains(t, skipper.domicile(t, "snapshots").out, "not kept yet")
	})
	t.Run("it is stopped on its way", func(t *testing.T) {
		strikeAt(t, "mover", "container", func() { skipper.domicile(t, "stop", "mover") }, func() error {
			_, err := client.Answer[client.Workspace](skipper.api.MoveWorkspace(t.Context(), "mover", client.MoveRequest{Site: "quay"}))
			return err
		})
		eventually(t, 20*time.Second, "it is stopped", func() bool { return skipper.workspace(t, "mover").State == client.WorkspaceStateStopped })
		require.Equal(t, 0, skipper.domicile(t, "start", "mover").status)
		same()
	})
	t.Run("its owner removes what was kept", func(t *testing.T) {
		skipper.keep(t, "mover", "mine, and earlier")
		before, err := dockerAt(t, second.Host, "images", "-q", "domicile-state")
		require.NoError(t, err)
		strikeAt(t, "mover", "carry", func() {
			list, err := client.Answer[[]client.Snapshot](skipper.api.ListSnapshots(t.Context()))
			if assert.NoError(t, err) {
				skipper.domicile(t, "snapshots", "remove", itoa(list[0].Id), "-yes")
			}
		}, func() error {
			_, err := client.Answer[client.Workspace](skipper.api.MoveWorkspace(t.Context(), "mover", client.MoveRequest{Site: "quay"}))
			return err
		})
		assert.Equal(t, 1, skipper.domicile(t, "follow", "mover").status)
		eventually(t, 40*time.Second, "it is where it was, and works", func() bool { return skipper.workspace(t, "mover").State == client.WorkspaceStateReady })
		same()
		after, err := dockerAt(t, second.Host, "images", "-q", "domicile-state")
		require.NoError(t, err)
		assert.Equal(t, before, after, "nor does anything stay where it was on its way to")
		assert.Contains(t, skipper.domicile(t, "snapshots").out, "mine, and earlier", "another is neither taken in its place nor lost")
	})
	t.Run("it is removed on its way", func(t *testing.T) {
		forget(t, "mover")
		strikeAt(t, "mover", "container", func() { skipper.domicile(t, "remove", "mover", "-yes") }, func() error {
			_, err := client.Answer[client.Workspace](skipper.api.MoveWorkspace(t.Context(), "mover", client.MoveRequest{Site: "quay"}))
			return err
		})
		eventually(t, 30*time.Second, "it is gone", func() bool { return strings.Contains(skipper.domicile(t, "show", "mover").err, "no workspace") })
		forget(t, "mover")
		for _, engine := range []string{world.EngineAt, second.Host} {
			assert.Empty(t, allOf(t, engine, id))
			left, err := dockerAt(t, engine, "images", "-q", "domicile-state")
			require.NoError(t, err)
			assert.Empty(t, left, "nothing is kept that nobody knows of")
		}
	})
}
