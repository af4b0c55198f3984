package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A site that is gone costs a new workspace, not the work: that begins with the copy which the
// site's rule has kept elsewhere. What is found there later is not lost.
func TestASiteThatIsGone(t *testing.T) {
	second, flags := aSecondSite(t)
	for rule, says := range map[string]string{"6h": "is no rule for copies", "1s@this-host": "is no rule for copies", "6h@shoal": `no site "shoal"`, "6h@quay": "name another site"} {
		assert.Contains(t, skipper.domicile(t, "sites", "change", "quay", "-copies", rule).err, says, rule)
	}
	assert.Contains(t, finn.domicile(t, "sites", "change", "quay", "-copies", "6h@this-host").err, "administrator")
	source := publish(t, "castaway", `{"image": "BASE", "remoteUser": "crew", "mounts": ["type=volume,source=hold,target=/hold"], "onCreateCommand": "echo made >> ~/made",
		"customizations": {"domicile": {"checks": {"made": {"command": "cat ~/made", "equals": "made"}, "hold": "test -s /hold/crate"}}}}`, map[string]string{"deck": "planks\n"})
	require.Equal(t, 0, skipper.provision(t, source, "castaway", "-site", "quay").status)
	t.Cleanup(func() { forget(t, "castaway") })
	id := skipper.workspace(t, "castaway").Id
	out, err := dockerAt(t, second.Host, "exec", "domicile-"+installationOf(t, second.Host, id)+"-w"+itoa(id), "sh", "-ec", "echo barrels > /hold/crate")
	require.NoError(t, err, out)
	skipper.inside(t, "castaway", "echo new >> deck; echo mine > untracked")
	assert.Contains(t, skipper.domicile(t, "move", "castaway", "-site", "this-host", "-from-kept").err, "answers", "there is nothing to make anew")
	strikeAt(t, "castaway", "copy", func() { world.Service.Kill() }, func() error { // the next one goes on with it
		_, err := client.Answer[struct{}](skipper.api.ChangeSite(t.Context(), "quay", client.SiteSettings{Copies: new("1h@this-host")}))
		return err
	})
	require.NoError(t, world.StartService(t.Context(), flags...))
	t.Cleanup(func() {
		skipper.command(context.WithoutCancel(t.Context()), "", "sites", "change", "quay", "-copies", "none").output()
	})
	assert.Contains(t, skipper.domicile(t, "sites").out, "quay: Copies of its workspaces are kept at this-host every 1h.")
	copied := func() (found []client.Snapshot) {
		list, err := client.Answer[[]client.Snapshot](skipper.api.ListSnapshots(t.Context()))
		require.NoError(t, err)
		for _, s := range list {
			if s.Name == "castaway" && s.Copy != nil && s.Ready {
				found = append(found, s)
			}
		}
		return found
	}
	eventually(t, 60*time.Second, "a copy is kept at the other site", func() bool { list := copied(); return len(list) == 1 && list[0].Site == "this-host" })
	eventually(t, 60*time.Second, "it is kept there alone", func() bool {
		left, err := dockerAt(t, second.Host, "images", "-q", "domicile-state")
		return err == nil && left == ""
	})
	assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, "castaway").State)
	skipper.inside(t, "castaway", "echo later > later")
	assert.Contains(t, skipper.domicile(t, "move", "castaway", "-site", "this-host", "-from-kept").err, "answers", "nobody loses what is there")

	second.Stop()
	eventually(t, 60*time.Second, "the site is gone", func() bool { return skipper.workspace(t, "castaway").State == client.WorkspaceStateLost })
	assert.Contains(t, skipper.domicile(t, "show", "castaway").out, "To make it anew from that: domicile move castaway -site this-host -from-kept")
	assert.Contains(t, finn.domicile(t, "move", "castaway", "-site", "this-host", "-from-kept").err, "no workspace")
	assert.Contains(t, skipper.domicile(t, "move", "castaway", "-site", "quay", "-from-kept").err, "-site this-host", "it is kept elsewhere")
	a := skipper.domicile(t, "move", "castaway", "-site", "this-host", "-from-kept")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.out+a.err, "what was changed in it since then is missing")
	assert.Equal(t, "this-host", skipper.workspace(t, "castaway").Site)
	assert.Equal(t, "planks\nnew\nuntracked\nbarrels", skipper.inside(t, "castaway", "cat deck; git ls-files -o; cat /hold/crate"))
	a = skipper.domicile(t, "checks", "castaway")
	assert.Equal(t, 0, a.status, a.out+a.err)

	// It comes back: what it has is kept, runs no more, and can be looked at.
	require.NoError(t, second.Start(context.WithoutCancel(t.Context())))
	found := client.Snapshot{}
	eventually(t, 90*time.Second, "what was there is kept", func() bool {
		list, err := client.Answer[[]client.Snapshot](skipper.api.ListSnapshots(t.Context()))
		for _, s := range list {
			if strings.HasPrefix(s.Note, "what was at quay when") {
				found = s
			}
		}
		return err == nil && found.Id > 0 && len(allOf(t, second.Host, id)) == 0
	})
	assert.Equal(t, "quay", found.Site)
	a = skipper.domicile(t, "snapshots", "make", fmt.Sprint(found.Id), "-name", "castaway-there")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "later", skipper.inside(t, "castaway-there", "cat later"))
	skipper.remove(t, "castaway-there")
	assert.Equal(t, "gone", skipper.inside(t, "castaway", "cat later 2>/dev/null || echo gone"), "the other goes on as it is")
	skipper.remove(t, "castaway")
	assert.Empty(t, copied(), "a copy by a rule goes with its workspace")
	assert.Contains(t, skipper.domicile(t, "snapshots").out, "what was at quay when", "what was found stays: nobody else has it")
}

// installationOf reads the installation's name from what an engine has of a workspace.
func installationOf(t *testing.T, engine string, id int64) string {
	t.Helper()
	out, err := dockerAt(t, engine, "ps", "--filter", "label=domicile.workspace=w"+itoa(id), "--format", "{{.Names}}")
	require.NoError(t, err, out)
	name, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(out), "domicile-"), "-w")
	return name
}
