package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	api "domicile/internal/client"
	"domicile/internal/daemons"
	"domicile/internal/records"
)

// BenchmarkRemoteProvision is provisioning at a host over SSH, against the same at the same engine
// without SSH between.
func BenchmarkRemoteProvision(b *testing.B) {
	ctx := b.Context()
	folder, err := os.MkdirTemp("", "domicile-bench-")
	require.NoError(b, err)
	require.NoError(b, os.Chmod(folder, 0o755))
	b.Cleanup(func() { os.RemoveAll(folder) })
	server, err := daemons.StartSSH(ctx, folder)
	require.NoError(b, err)
	b.Cleanup(server.Stop)
	home := fmt.Sprintf("/run/user/%d", 1_000_000+server.Port)
	require.NoError(b, os.MkdirAll(home, 0o755))
	b.Cleanup(func() { os.RemoveAll(home) })
	require.NoError(b, os.Symlink(strings.TrimPrefix(world.EngineAt, "unix://"), filepath.Join(home, "docker.sock")))
	trust, err := api.Answer[api.HostTrust](skipper.api.AddSite(ctx, api.NewSite{Name: "skiff", Address: fmt.Sprintf("ssh://root@127.0.0.1:%d%s/docker.sock", server.Port, home)}))
	require.NoError(b, err)
	require.NoError(b, server.Authorize(trust.Install))
	_, err = api.Answer[[]api.Finding](skipper.api.ExamineSite(ctx, "skiff"))
	require.NoError(b, err)
	b.Cleanup(func() {
		for _, verb := range []string{"drain", "remove"} {
			_ = skipper.command(context.WithoutCancel(ctx), "", "sites", verb, "skiff").Run()
		}
	})
	source, states, n := benchSource(b), newWaiter(b), 0
	provision := func(site string) {
		n++
		name := fmt.Sprintf("bench-at-%d", n)
		b.Cleanup(func() {
			_ = skipper.command(context.WithoutCancel(ctx), "", "remove", name, "-yes").Run()
		})
		_, err := api.Answer[api.Workspace](skipper.api.Provision(ctx, api.ProvisionRequest{Source: source, Name: &name, Site: &site}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
	}
	provision("skiff")
	provision("this-host")
	(&pair{}).measure(b, func() { provision("skiff") }, func() { provision("this-host") })
}

// BenchmarkMove is a move of a workspace to another engine, which has its image, against what the
// engines' own client does for a container's files alone: commit, save, load, create and start.
func BenchmarkMove(b *testing.B) {
	ctx := b.Context()
	folder, err := os.MkdirTemp("", "domicile-quay-")
	require.NoError(b, err)
	require.NoError(b, os.Chmod(folder, 0o711))
	b.Cleanup(func() { os.RemoveAll(folder) })
	second, err := daemons.StartEngine(ctx, folder)
	require.NoError(b, err)
	b.Cleanup(second.Close)
	serve := func(ctx context.Context, flags ...string) {
		world.Service.Stop()
		require.NoError(b, world.StartService(ctx, flags...))
	}
	serve(ctx, "-engine", world.EngineAt+",quay="+second.Host)
	b.Cleanup(func() {
		serve(context.WithoutCancel(ctx))
		_ = skipper.command(context.WithoutCancel(ctx), "", "sites", "remove", "quay").Run()
	})
	require.Eventually(b, func() bool {
		list, err := api.Answer[[]api.Site](skipper.api.ListSites(ctx))
		return err == nil && len(list) == 2 && list[0].Ready && list[1].Ready
	}, 30*time.Second, 100*time.Millisecond)
	source, states := benchSource(b), newWaiter(b)
	name, here := "bench-mover", "this-host"
	_, err = api.Answer[api.Workspace](skipper.api.Provision(ctx, api.ProvisionRequest{Source: source, Name: &name, Site: &here}))
	require.NoError(b, err)
	states.wait(b, name, records.Ready)
	b.Cleanup(func() {
		_ = skipper.command(context.WithoutCancel(ctx), "", "remove", name, "-yes").Run()
		list, _ := api.Answer[[]api.Snapshot](skipper.api.ListSnapshots(context.WithoutCancel(ctx)))
		for _, s := range list {
			_, _ = api.Answer[any](skipper.api.RemoveSnapshot(context.WithoutCancel(ctx), s.Id))
		}
	})
	sites, n := []string{"quay", "this-host"}, 0
	move := func() {
		_, err := api.Answer[api.Workspace](skipper.api.MoveWorkspace(ctx, name, api.MoveRequest{Site: sites[n%2]}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
		require.Eventually(b, func() bool { // what is left where it was goes last
			w, err := api.Answer[api.Workspace](skipper.api.GetWorkspace(ctx, name))
			return err == nil && w.Run.State == api.RunStateDone
		}, time.Minute, 5*time.Millisecond)
		n++
	}
	move()
	move() // both have the image from now on
	bare := create(b, rawEngine(b))
	(&pair{}).measure(b, move, func() {
		script := fmt.Sprintf("docker -H %[1]s commit %[3]s bench-moved >/dev/null; docker -H %[1]s save bench-moved | docker -H %[2]s load -q >/dev/null; docker -H %[2]s run -d --rm --name bench-moved bench-moved >/dev/null", world.EngineAt, second.Host, bare)
		out, err := exec.CommandContext(ctx, "sh", "-ec", script).CombinedOutput()
		require.NoError(b, err, string(out))
		b.Cleanup(func() {
			_ = exec.CommandContext(context.WithoutCancel(ctx), "docker", "-H", second.Host, "rm", "-f", "bench-moved").Run()
		})
		_ = exec.CommandContext(ctx, "docker", "-H", second.Host, "rm", "-f", "bench-moved").Run()
	})
}

// BenchmarkKeptWarm is provisioning of what is kept warm, from the request until the ways in are
// open, against the bare engine creating and starting a container.
func BenchmarkKeptWarm(b *testing.B) {
	ctx, engine, states := b.Context(), rawEngine(b), newWaiter(b)
	require.NoError(b, world.Git.Put(ctx, "test/warm", mapFiles(fmt.Sprintf(`{ "image": "%s/skerry/base:12", "remoteUser": "crew" }`, world.RegistryAt)), func(s string) string { return s }))
	source, n := world.GitAt+"/test/warm.git", 0
	_, err := api.Answer[api.Prepared](skipper.api.PrepareSource(ctx, api.PrepareRequest{Source: source, Keep: new(1)}))
	require.NoError(b, err)
	b.Cleanup(func() {
		_ = skipper.command(context.WithoutCancel(ctx), "", "prepare", "remove", "warm@").Run()
	})
	var p pair
	for b.Loop() {
		require.Eventually(b, func() bool { // each is made when the last one was taken
			list, err := api.Answer[[]api.Prepared](skipper.api.ListPrepared(ctx))
			return err == nil && len(list) == 1 && list[0].Kept != nil && *list[0].Kept == 1
		}, time.Minute, 50*time.Millisecond)
		begun := time.Now()
		create(b, engine)
		p.raw = append(p.raw, time.Since(begun))
		n++
		name := fmt.Sprintf("warm-%d", n)
		b.Cleanup(func() {
			_ = skipper.command(context.WithoutCancel(ctx), "", "remove", name, "-yes").Run()
		})
		begun = time.Now()
		_, err := api.Answer[api.Workspace](skipper.api.Provision(ctx, api.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
		p.ours = append(p.ours, time.Since(begun))
	}
	p.report(b)
}

// BenchmarkPreparedMachine is a machine of a prepared source, from the request to a program's first
// word in it, against one that must boot: whose process was killed, until a program answers in it.
func BenchmarkPreparedMachine(b *testing.B) {
	ctx := b.Context()
	image := filepath.Join(b.TempDir(), "image")
	out, err := exec.CommandContext(ctx, "../../scripts/machine-image", image).CombinedOutput()
	require.NoError(b, err, string(out))
	world.Service.Stop()
	require.NoError(b, world.StartService(ctx, "-machines", image))
	b.Cleanup(func() {
		world.Service.Stop()
		require.NoError(b, world.StartService(context.WithoutCancel(ctx)))
	})
	require.NoError(b, world.Git.Put(ctx, "test/afloat", mapFiles(fmt.Sprintf(`{ "image": "%s/skerry/base:12", "remoteUser": "crew", "onCreateCommand": "sleep 1; seq 1000 > ~/early" }`, world.RegistryAt)), func(s string) string { return s }))
	source := world.GitAt + "/test/afloat.git"
	does := func(args ...string) {
		b.Helper()
		out, err := skipper.command(ctx, "", args...).CombinedOutput()
		require.NoError(b, err, "%v: %s", args, out)
	}
	require.Eventually(b, func() bool {
		return skipper.command(ctx, "", "prepare", source, "-site", "machines", "-size", "small").Run() == nil
	}, 10*time.Minute, time.Second)
	n := 0
	provision := func() (name string) {
		n++
		name = fmt.Sprintf("afloat-%d", n)
		b.Cleanup(func() {
			_ = skipper.command(context.WithoutCancel(ctx), "", "remove", name, "-yes").Run()
		})
		does("provision", source, "-name", name, "-site", "machines", "-size", "small")
		does("run", name, "--", "true")
		return name
	}
	cold := provision() // and the template is made
	list, err := api.Answer[[]api.Workspace](skipper.api.ListWorkspaces(ctx, nil))
	require.NoError(b, err)
	var id int64
	for _, w := range list {
		if w.Name == cold {
			id = w.Id
		}
	}
	(&pair{}).measure(b, func() { provision() }, func() {
		require.NoError(b, exec.CommandContext(ctx, "pkill", "-KILL", "-f", fmt.Sprintf("domicile-w%d ", id)).Run())
		require.Eventually(b, func() bool { return skipper.command(ctx, "", "run", cold, "--", "true").Run() == nil }, 5*time.Minute, 100*time.Millisecond)
	})
}
