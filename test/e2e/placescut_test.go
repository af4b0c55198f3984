package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"domicile/internal/client"
	"domicile/internal/daemons"
)

// skiff serves with a host over SSH, the site skiff, whose engine is in a folder.
func skiff(t *testing.T, folder string) (second *daemons.Engine, server *daemons.SSH) {
	t.Helper()
	second, err := daemons.StartEngine(t.Context(), folder)
	require.NoError(t, err)
	t.Cleanup(second.Close)
	if server, err = daemons.StartSSH(t.Context(), t.TempDir()); err != nil {
		require.NoError(t, err)
	}
	t.Cleanup(server.Stop)
	home := fmt.Sprintf("/run/user/%d", 1_000_000+os.Getpid())
	require.NoError(t, os.MkdirAll(home, 0o755))
	t.Cleanup(func() { os.RemoveAll(home) })
	require.NoError(t, os.Symlink(strings.TrimPrefix(second.Host, "unix://"), filepath.Join(home, "docker.sock")))
	trust, err := client.Answer[client.HostTrust](skipper.api.AddSite(t.Context(), client.NewSite{Name: "skiff", Address: fmt.Sprintf("ssh://root@127.0.0.1:%d%s/docker.sock", server.Port, home)}))
	require.NoError(t, err)
	require.NoError(t, server.Authorize(trust.Install))
	skipper.domicile(t, "sites", "examine", "skiff") // at once, and not in a while
	ready(t, "skiff")
	t.Cleanup(func() {
		list, err := client.Answer[[]client.Workspace](skipper.api.ListWorkspaces(context.WithoutCancel(t.Context()), nil))
		assert.NoError(t, err)
		for _, w := range list {
			if w.Site == "skiff" {
				skipper.remove(t, w.Name)
			}
		}
		for _, verb := range []string{"drain", "remove"} {
			out, err := skipper.command(context.WithoutCancel(t.Context()), "", "sites", verb, "skiff").output()
			assert.NoError(t, err, out)
		}
	})
	return second, server
}

// The connection to a host is cut at every step of a run, its engine is started again, and it is
// away for a minute while a terminal is open: everything ends as it should, and nothing is doubled.
func TestPlacesAHostIsCutOff(t *testing.T) {
	folder, err := os.MkdirTemp("", "domicile-skiff-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o711))
	t.Cleanup(func() { os.RemoveAll(folder) })
	second, server := skiff(t, folder)
	source := publish(t, "adrift", `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "echo begun >> ~/log; sleep 1; echo made > ~/made", "postStartCommand": "echo begun >> ~/begun",
		"customizations": {"domicile": {"checks": {"made": {"command": "cat ~/made", "equals": "made"}}}}}`, map[string]string{"deck": "planks\n"})
	cut := func() {
		server.Stop()
		time.AfterFunc(2*time.Second, func() { assert.NoError(t, server.Start(context.WithoutCancel(t.Context()))) })
	}
	restart := func() {
		second.Stop()
		go func() { assert.NoError(t, second.Start(context.WithoutCancel(t.Context()))) }()
	}
	for n, step := range []string{"image", "volume", "container", "agent", "source", "onCreateCommand", "ready", "postStartCommand", "checks"} {
		for how, strike := range map[string]func(){"cut": cut, "restarted": restart} {
			if how == "restarted" && step != "container" && step != "onCreateCommand" {
				continue // what an engine of this host does is tried at every step elsewhere
			}
			name := fmt.Sprintf("adrift-%s-%d", how, n)
			strikeAt(t, name, step, strike, func() error {
				_, err := client.Answer[client.Workspace](skipper.api.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name, Site: new("skiff")}))
				return err
			})
			a := skipper.domicile(t, "follow", name)
			require.Equal(t, 0, a.status, "%s at %s: %s", how, step, a.out+a.err)
			eventually(t, 60*time.Second, "it is reached", func() bool { return skipper.domicile(t, "run", name, "--", "true").status == 0 })
			assert.Equal(t, "planks\nmade", skipper.inside(t, name, "cat deck ~/made"), "%s at %s: whole", how, step)
			if how == "cut" { // else what was killed with it is begun again
				assert.Equal(t, "begun", skipper.inside(t, name, "cat ~/log"), "at %s: once", step)
			}
			out, err := dockerAt(t, second.Host, "ps", "-aq", "--filter", "label=domicile.workspace=w"+itoa(skipper.workspace(t, name).Id))
			require.NoError(t, err, out)
			assert.Len(t, strings.Fields(out), 1, "%s at %s: nothing is doubled", how, step)
			skipper.remove(t, name)
		}
	}

	require.Equal(t, 0, skipper.provision(t, source, "adrift", "-site", "skiff").status)
	before := openTerminal(t, "adrift", "watch")
	before.typed("echo shell $$; n=0; while sleep 1; do n=$((n+1)); echo tick $n; done\n")
	before.expect("tick 2")
	server.Stop()
	<-time.After(time.Minute) // how long it is away is what is tried
	require.NoError(t, server.Start(t.Context()))
	eventually(t, 60*time.Second, "it is reached again", func() bool { return skipper.domicile(t, "run", "adrift", "--", "true").status == 0 })
	again := openTerminal(t, "adrift", "watch")
	again.expect("tick 62")
	for n := 3; n <= 62; n++ {
		assert.Contains(t, again.seen, fmt.Sprintf("tick %d\r\n", n), "no line is lost")
	}
	skipper.remove(t, "adrift")
}

// A host whose disk is full says so before, or when, something is to be made there, and goes on when
// there is room again.
func TestPlacesAHostWithAFullDisk(t *testing.T) {
	folder, err := os.MkdirTemp("", "domicile-skiff-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, unix.Mount("tmpfs", folder, "tmpfs", 0, "size=2g,mode=711"))
	t.Cleanup(func() { assert.NoError(t, unix.Unmount(folder, unix.MNT_DETACH)) })
	skiff(t, folder)
	a := skipper.domicile(t, "sites", "examine", "skiff")
	assert.Equal(t, 1, a.status)
	assert.Regexp(t, `disk +not fine +[.0-9]+ GB free +10 GB or more`, a.out, "before an hour is lost")
	source := publish(t, "laden", `{"image": "BASE", "remoteUser": "crew", "onCreateCommand": "head -c 60000000 /dev/zero > cargo"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "laden", "-site", "skiff").status)
	ballast := filepath.Join(folder, "ballast")
	var free unix.Statfs_t
	require.NoError(t, unix.Statfs(folder, &free))
	f, err := os.Create(ballast)
	require.NoError(t, err)
	require.NoError(t, unix.Fallocate(int(f.Fd()), 0, 0, int64(free.Bavail)*free.Bsize-30<<20))
	require.NoError(t, f.Close())
	eventually(t, 60*time.Second, "it is told", func() bool {
		return strings.Contains(strings.ToLower(skipper.domicile(t, "sites").out), "disk")
	})
	a = skipper.provision(t, source, "laden-too", "-site", "skiff")
	assert.Equal(t, 1, a.status)
	assert.Regexp(t, `onCreateCommand failed, and the disk of the site skiff is full`, a.err)
	assert.Contains(t, a.err, "domicile tidy")
	require.NoError(t, os.Remove(ballast))
	eventually(t, 90*time.Second, "there is room again", func() bool {
		return skipper.provision(t, source, "laden-too", "-site", "skiff").status == 0
	})
	assert.Equal(t, "60000000", skipper.inside(t, "laden-too", "stat -c %s cargo"))
	for _, name := range []string{"laden", "laden-too"} {
		skipper.remove(t, name)
	}
}
