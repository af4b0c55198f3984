package vm

import (
	"context"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/docker/docker/client"
	"github.com/stretchr/testify/require"

	"domicile/internal/scenario"
	"domicile/internal/site/machine/datadisk"
)

// BenchmarkDisk is the disk that an image comes to a machine on, from an archive of the image,
// against a plain copy of the same bytes: those of the image unpacked, as an engine has them.
func BenchmarkDisk(b *testing.B) {
	ctx := b.Context()
	folder, err := os.MkdirTemp("", "dmcl-")
	require.NoError(b, err)
	require.NoError(b, os.Chmod(folder, 0o755)) // the engine's mapped users pass through it
	defer os.RemoveAll(folder)
	cache, err := os.UserCacheDir()
	require.NoError(b, err)
	world, err := scenario.Start(ctx, scenario.Options{Folder: folder, Cache: filepath.Join(cache, "domicile"), OwnEngine: true, Say: func(string) {}})
	require.NoError(b, err)
	defer world.Close()
	image := world.RegistryAt + "/skerry/base:12"
	archive := filepath.Join(folder, "image.tar")
	out, err := exec.CommandContext(ctx, "sh", "-ec", "docker -H "+world.EngineAt+" pull -q "+image+"; docker -H "+world.EngineAt+" save -o "+archive+" "+image).CombinedOutput()
	require.NoError(b, err, string(out))

	plain := filepath.Join(folder, "plain")
	require.NoError(b, os.Mkdir(plain, 0o755))
	out, err = exec.CommandContext(ctx, "sh", "-ec", "cd "+plain+"; docker -H "+world.EngineAt+" create --name plain "+image+"; docker -H "+world.EngineAt+" export plain | tar x").CombinedOutput()
	require.NoError(b, err, string(out))
	var bytes int64
	require.NoError(b, filepath.WalkDir(plain, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() {
			info, infoErr := e.Info()
			bytes, err = bytes+info.Size(), infoErr
		}
		return err
	}))

	var s sides
	for b.Loop() {
		s.ours = append(s.ours, took(func() {
			_, err := datadisk.Fill(ctx, b.TempDir(), 8<<30, func(ctx context.Context, dial func(context.Context) (net.Conn, error)) error {
				engine, err := client.NewClientWithOpts(client.WithHost("unix:///engine"), client.WithAPIVersionNegotiation(), client.WithDialContext(func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) }))
				if err != nil {
					return err
				}
				defer engine.Close()
				f, err := os.Open(archive)
				if err != nil {
					return err
				}
				defer f.Close()
				answer, err := engine.ImageLoad(ctx, f)
				if err != nil {
					return err
				}
				defer answer.Body.Close()
				_, err = io.Copy(io.Discard, answer.Body)
				return err
			})
			require.NoError(b, err)
		}))
		s.raw = append(s.raw, took(func() {
			out, err := exec.CommandContext(ctx, "cp", "-a", plain, filepath.Join(b.TempDir(), "copy")).CombinedOutput()
			require.NoError(b, err, string(out))
		}))
	}
	s.report(b)
	b.ReportMetric(float64(bytes)/(1<<20), "MB")
}
