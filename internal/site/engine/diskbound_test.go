package engine

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/pkg/stdcopy"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/daemons"
	"domicile/internal/judge"
	"domicile/internal/plan"
)

// An engine on a file system that can bound a container: who writes without end gets half of
// the disk, and the rest is left to the others.
func TestTheDiskIsBoundedWhereItCanBe(t *testing.T) {
	ctx, folder := t.Context(), filepath.Join(world.Folder(), "bounded") // root of containers passes there
	require.NoError(t, os.Mkdir(folder, 0o755))
	sh := func(line string) {
		t.Helper()
		c := exec.CommandContext(ctx, "sh", "-ec", line)
		c.Dir = folder
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	sh("truncate -s 1G disk && mkfs.btrfs -q disk && mkdir data && mount -o loop disk data")
	t.Cleanup(func() { _ = exec.Command("umount", "-l", filepath.Join(folder, "data")).Run() })
	engine, err := daemons.StartEngine(ctx, filepath.Join(folder, "data"))
	require.NoError(t, err)
	t.Cleanup(engine.Close)
	dial, _, err := Address(engine.Host)
	require.NoError(t, err)
	s, err := New(Options{Name: engine.Host, Dial: dial, Installation: "bounded", Agents: func(string) string { return agentBinary() }, Shared: &Shared{}, Secret: []byte("tide")})
	require.NoError(t, err)
	_, err = s.Examine(ctx)
	require.NoError(t, err)
	image := world.RegistryAt + "/skerry/base:12"
	_, err = s.EnsureImage(ctx, pulledImage(t, image), func(string) {})
	require.NoError(t, err)

	free := func() int64 { return diskFree(filepath.Join(folder, "data")) }
	made, err := s.createContainer(ctx, &container.Config{Image: image, Cmd: []string{"sh", "-c", "cat /dev/zero >/filler; stat -c %s /filler"}}, &container.HostConfig{NetworkMode: "none"}, nil, "filler")
	require.NoError(t, err)
	require.NoError(t, s.api.ContainerStart(ctx, made.ID, container.StartOptions{}))
	ended, wrong := s.api.ContainerWait(ctx, made.ID, container.WaitConditionNotRunning)
	select {
	case <-ended:
	case err := <-wrong:
		require.NoError(t, err)
	}
	logs, err := s.api.ContainerLogs(ctx, made.ID, container.LogsOptions{ShowStdout: true, ShowStderr: true})
	require.NoError(t, err)
	defer logs.Close()
	var said bytes.Buffer
	_, err = stdcopy.StdCopy(&said, &said, logs)
	require.NoError(t, err)
	assert.Contains(t, said.String(), "Disk quota exceeded")
	assert.Greater(t, free(), int64(300<<20), "of 1 GiB")
	assert.False(t, s.unbounded)

	// A file system that cannot, as that of the other tests: it goes on without.
	other := newSite(t, "unbounded", t.TempDir())
	_, err = other.Examine(ctx)
	require.NoError(t, err)
	_, err = other.EnsureImage(ctx, pulledImage(t, image), func(string) {})
	require.NoError(t, err)
	made, err = other.createContainer(ctx, &container.Config{Image: image}, &container.HostConfig{NetworkMode: "none"}, nil, "domicile-unbounded-x")
	require.NoError(t, err)
	assert.NoError(t, other.api.ContainerRemove(ctx, made.ID, container.RemoveOptions{Force: true}))
	assert.True(t, other.unbounded)
}

func pulledImage(t *testing.T, name string) judge.Image {
	t.Helper()
	i, err := plan.JudgeImage(name, judge.Subject{})
	require.NoError(t, err)
	return i
}
