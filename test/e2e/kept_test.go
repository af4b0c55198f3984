package e2e

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// warm waits until so many workspaces are kept warm of the only source that is prepared, and gives
// the commit that was prepared.
func warm(t *testing.T, n int) (commit string) {
	t.Helper()
	eventually(t, 60*time.Second, fmt.Sprintf("%d are kept warm", n), func() bool {
		list, err := client.Answer[[]client.Prepared](skipper.api.ListPrepared(t.Context()))
		if err != nil || len(list) != 1 || list[0].Kept == nil || *list[0].Kept != n {
			return false
		}
		commit = *list[0].Commit
		return true
	})
	return commit
}

// Who provisions what is kept warm takes one over: it is there already, and what belongs to a
// person is done then. Another is made in its place, of the newest commit, and nobody's data is in
// one that waits.
func TestWorkspacesAreKeptWarm(t *testing.T) {
	definition := func(n int) string {
		return fmt.Sprintf(`{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo early %d >> ~/early; env > ~/seen", "postCreateCommand": "echo late-$TIDE_TOKEN >> ~/late", "secrets": {"TIDE_TOKEN": {}},
			"customizations": {"domicile": {"checks": {"late": {"command": "wc -l < ~/late", "equals": "1"}}}}}`, n)
	}
	source := publish(t, "toasty", definition(1), map[string]string{"deck": "planks\n"})
	serveWith(t, "-look-every", "1s")
	for _, p := range []*person{skipper, finn} {
		_, err := client.Answer[struct{}](p.api.SetAuthor(t.Context(), client.Author{Name: p.name, Mail: p.name + "@skerry.test"}))
		require.NoError(t, err)
	}
	out, err := skipper.command(t.Context(), "floodlight\n", "secrets", "set", "TIDE_TOKEN", "-for", source).output()
	require.NoError(t, err, out)
	for _, n := range []string{"-1", "21"} {
		assert.Contains(t, skipper.domicile(t, "prepare", source, "-keep", n).err, "keep between 0 and 20")
	}
	a := skipper.domicile(t, "prepare", source, "-follow", "-keep", "2")
	require.Equal(t, 0, a.status, a.out+a.err)
	t.Cleanup(func() {
		_ = skipper.command(context.WithoutCancel(t.Context()), "", "prepare", "remove", "toasty@").Run()
	})
	first := warm(t, 2)
	assert.Regexp(t, `toasty@ +prepared +[0-9a-f]{12} +yes +2 of 2`, skipper.domicile(t, "prepare").out)
	assert.NotContains(t, skipper.domicile(t, "list").out, "toasty", "nobody's yet")
	for _, name := range []string{"toasty@", "toasty@+1"} {
		assert.Equal(t, 255, skipper.ssh(t, "", name+"@127.0.0.1", "true").status)
	}

	// Two people at once: each has one.
	var both sync.WaitGroup
	for _, p := range []*person{skipper, finn} {
		both.Go(func() {
			began := time.Now()
			a := p.provision(t, source, "toasty")
			assert.Equal(t, 0, a.status, a.err)
			assert.NotContains(t, a.err, "onCreateCommand")
			t.Logf("%s: from the request to ready: %s", p.name, time.Since(began))
		})
	}
	both.Wait()
	for _, p := range []*person{skipper, finn} {
		w := p.workspace(t, "toasty")
		assert.Equal(t, client.RunKind("take"), w.Run.Kind)
		require.NotNil(t, w.Checks)
		assert.True(t, (*w.Checks)[0].Ok)
		assert.Equal(t, "early 1\nplanks\n"+p.name, p.inside(t, "toasty", "cat ~/early deck; git config user.name"))
		assert.Empty(t, p.inside(t, "toasty", "grep -i floodlight ~/seen || true"), "nothing of who keeps it warm was in it")
	}
	assert.Equal(t, "late-floodlight", skipper.inside(t, "toasty", "cat ~/late"))
	assert.Equal(t, "late-", finn.inside(t, "toasty", "cat ~/late"), "another's secrets are not there")
	assert.Equal(t, 1, finn.domicile(t, "show", "toasty@").status)

	// Others are made in their place; a new commit replaces them.
	assert.Equal(t, first, warm(t, 2))
	publish(t, "toasty", definition(2), map[string]string{"deck": "planks\n"})
	eventually(t, 60*time.Second, "the new commit is prepared", func() bool { return warm(t, 2) != first })
	eventually(t, 60*time.Second, "those of the earlier one are replaced", func() bool {
		a := finn.provision(t, source, "toasty-two")
		w := finn.workspace(t, "toasty-two")
		defer finn.remove(t, "toasty-two")
		return a.status == 0 && w.Run.Kind == "take" && finn.inside(t, "toasty-two", "cat ~/early") == "early 2"
	})

	// One that ends is replaced; what is wanted otherwise is not one of them.
	warm(t, 2)
	said, err := engineSays(t, "ps", "-q", "--no-trunc", "--filter", "label=domicile.workspace")
	require.NoError(t, err)
	for _, id := range strings.Fields(said) {
		of, err := engineSays(t, "inspect", "-f", `{{index .Config.Labels "domicile.workspace"}}`, id)
		require.NoError(t, err)
		if of = strings.TrimSpace(of); of != "w"+itoa(skipper.workspace(t, "toasty").Id) && of != "w"+itoa(finn.workspace(t, "toasty").Id) {
			_, err := engineSays(t, "kill", id)
			require.NoError(t, err)
		}
	}
	eventually(t, 60*time.Second, "those that ended are replaced", func() bool {
		said, err := engineSays(t, "ps", "-aq", "--filter", "label=domicile.workspace", "--filter", "status=exited")
		return err == nil && strings.TrimSpace(said) == ""
	})
	warm(t, 2)
	a = finn.provision(t, source, "toasty-small", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, client.RunKind("provision"), finn.workspace(t, "toasty-small").Run.Kind)
	finn.remove(t, "toasty-small")

	skipper.remove(t, "toasty")
	finn.remove(t, "toasty")
	require.Equal(t, 0, skipper.domicile(t, "prepare", "remove", "toasty@").status)
	eventually(t, 30*time.Second, "none is left", func() bool { return len(objects(t)) == 0 })
}
