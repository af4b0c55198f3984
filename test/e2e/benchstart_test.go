package e2e

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/client"
	"github.com/stretchr/testify/require"

	api "domicile/internal/client"
	"domicile/internal/records"
)

// create makes and starts a container of the base image on the workspaces' network.
func create(b *testing.B, engine *client.Client) string {
	b.Helper()
	c, err := engine.ContainerCreate(b.Context(), &container.Config{Image: world.RegistryAt + "/skerry/base:12", Cmd: []string{"sleep", "infinity"}}, &container.HostConfig{NetworkMode: networkOf(b)}, nil, nil, "")
	require.NoError(b, err)
	require.NoError(b, engine.ContainerStart(b.Context(), c.ID, container.StartOptions{}))
	b.Cleanup(func() {
		_ = engine.ContainerRemove(context.WithoutCancel(b.Context()), c.ID, container.RemoveOptions{Force: true})
	})
	return c.ID
}

// BenchmarkPrepared is provisioning of a prepared source, with two hundred files and two
// early stages, against the bare engine creating and starting a container.
func BenchmarkPrepared(b *testing.B) {
	engine, states := rawEngine(b), newWaiter(b)
	files := mapFiles(fmt.Sprintf(`{ "image": "%s/skerry/base:12", "remoteUser": "crew", "onCreateCommand": "sleep 1; seq 1000 > ~/early", "updateContentCommand": "seq 1000 > generated" }`, world.RegistryAt))
	for i := range 200 {
		copied := *files[".devcontainer/devcontainer.json"]
		copied.Data = []byte(strings.Repeat(fmt.Sprintln("line", i), 100))
		files[fmt.Sprintf("charts/%d.txt", i)] = &copied
	}
	require.NoError(b, world.Git.Put(b.Context(), "test/prepared", files, func(s string) string { return s }))
	source := world.GitAt + "/test/prepared.git"
	_, err := api.Answer[api.Prepared](skipper.api.PrepareSource(b.Context(), api.PrepareRequest{Source: source}))
	require.NoError(b, err)
	states.wait(b, "prepared@", records.Stopped)
	b.Cleanup(func() {
		_ = skipper.command(context.WithoutCancel(b.Context()), "", "prepare", "remove", "prepared@").Run()
	})
	n := 0
	(&pair{}).measure(b, func() {
		n++
		name := fmt.Sprintf("prepared-%d", n)
		b.Cleanup(func() {
			_ = skipper.command(context.WithoutCancel(b.Context()), "", "remove", name, "-yes").Run()
		})
		_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
	}, func() { create(b, engine) })
}

// BenchmarkCold is provisioning where the engine has not even the image, against the bare
// engine pulling it, and creating and starting a container.
func BenchmarkCold(b *testing.B) {
	source, engine, states := benchSource(b), rawEngine(b), newWaiter(b)
	reference := world.RegistryAt + "/skerry/base:12"
	var made []string
	forget := func() {
		for _, id := range made {
			require.NoError(b, engine.ContainerRemove(b.Context(), id, container.RemoveOptions{Force: true}))
		}
		made = nil
		there, err := engine.ImageInspect(b.Context(), reference)
		if err == nil {
			_, err = engine.ImageRemove(b.Context(), there.ID, image.RemoveOptions{Force: true})
		}
		if err != nil && !cerrdefs.IsNotFound(err) {
			b.Fatal(err)
		}
	}
	n := 0
	var p pair
	for b.Loop() {
		forget()
		n++
		name := fmt.Sprintf("cold-%d", n)
		begun := time.Now()
		_, err := api.Answer[api.Workspace](skipper.api.Provision(b.Context(), api.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(b, err)
		states.wait(b, name, records.Ready)
		p.ours = append(p.ours, time.Since(begun))
		removeNow(b, states, name)
		r, err := engine.ImagePull(b.Context(), reference, image.PullOptions{}) // gives it its tag again, so that it is found
		require.NoError(b, err)
		_, _ = io.Copy(io.Discard, r)
		r.Close()
		forget()
		begun = time.Now()
		r, err = engine.ImagePull(b.Context(), reference, image.PullOptions{})
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, r)
		require.NoError(b, err)
		r.Close()
		made = append(made, create(b, engine))
		p.raw = append(p.raw, time.Since(begun))
	}
	p.report(b)
}
