package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path"
	"strings"
	"syscall"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/api/types/volume"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
	"domicile/internal/site"
)

// agentFile is the agent's binary.
type agentFile struct {
	architecture string // as Go names it
	content      []byte
	digest       string
}

func readAgent(files func(architecture string) string, architecture string) (agentFile, error) {
	b, err := os.ReadFile(files(architecture))
	if err != nil {
		return agentFile{}, fault.Wrap(err, "no-agent", "build it with scripts/build, or name it with -agent", "cannot read the agent's binary for %s", architecture)
	}
	sum := sha256.Sum256(b)
	return agentFile{architecture: architecture, content: b, digest: hex.EncodeToString(sum[:6])}, nil
}

// chooseAgent takes the agent that runs on the engine's host.
func (s *Site) chooseAgent(machine string) error {
	architecture := site.GoArchitecture(machine)
	if s.agentNow().architecture == architecture {
		return nil
	}
	a, err := readAgent(s.o.Agents, architecture)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.agent = a
	return nil
}

func (s *Site) agentVolume() string { return "domicile-agent-" + s.agentNow().digest }

// ensureAgent fills the volume with the agent's binary, once for each version and engine:
// nothing is copied for each workspace. An image is needed because only a container
// (which is never started) gives a way into a volume.
func (s *Site) ensureAgent(ctx context.Context, imageID string) error {
	a := s.agentNow()
	s.mu.Lock()
	filled := s.filled[a.digest]
	s.mu.Unlock()
	if filled {
		return nil
	}
	if _, err := s.api.VolumeCreate(ctx, volume.CreateOptions{Name: s.agentVolume(), Labels: map[string]string{labelAgent: a.digest}}); err != nil {
		return s.explain(err, "make the agent's volume")
	}
	carrier, err := s.api.ContainerCreate(ctx, &container.Config{Image: imageID, Entrypoint: []string{"/none"}, Labels: s.labels("")},
		&container.HostConfig{NetworkMode: "none", Mounts: []mount.Mount{{Type: mount.TypeVolume, Source: s.agentVolume(), Target: wire.AgentFolder}}}, nil, nil, "")
	if err != nil {
		return s.explain(err, "open the agent's volume")
	}
	defer func() {
		_ = s.api.ContainerRemove(context.WithoutCancel(ctx), carrier.ID, container.RemoveOptions{Force: true})
	}()
	stat, err := s.api.ContainerStatPath(ctx, carrier.ID, wire.AgentPath)
	if err == nil {
		_, err = s.api.ContainerStatPath(ctx, carrier.ID, path.Join(wire.ProgramFolder, wire.Programs[0]))
	}
	if err != nil || stat.Size != int64(len(a.content)) {
		if err := s.api.CopyToContainer(ctx, carrier.ID, wire.AgentFolder, a.archive(), container.CopyToContainerOptions{}); err != nil {
			return s.explain(err, "fill the agent's volume")
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.filled[a.digest] = true
	return nil
}

// forget makes the next container look again: the engine may have lost what it had.
func (s *Site) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.filled, s.network = map[string]bool{}, ""
}

func (a agentFile) archive() *bytes.Buffer { return a.archiveAt(path.Base(wire.AgentPath)) }

// archiveAt is an archive that has the binary at a path, and beside it the names by which it is the
// program that a person calls.
func (a agentFile) archiveAt(file string) *bytes.Buffer {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	file = strings.TrimPrefix(file, "/")
	// Writing into memory does not fail.
	_ = w.WriteHeader(&tar.Header{Name: file, Mode: 0o755, Size: int64(len(a.content)), Typeflag: tar.TypeReg})
	_, _ = w.Write(a.content)
	folder := path.Join(path.Dir(file), path.Base(wire.ProgramFolder))
	_ = w.WriteHeader(&tar.Header{Name: folder + "/", Mode: 0o755, Typeflag: tar.TypeDir})
	for _, name := range wire.Programs {
		_ = w.WriteHeader(&tar.Header{Name: path.Join(folder, name), Linkname: "../" + path.Base(file), Mode: 0o777, Typeflag: tar.TypeSymlink})
	}
	_ = w.Close()
	return &b
}

// diskFree is 0 where it cannot be told.
func diskFree(folder string) int64 {
	var fs syscall.Statfs_t
	if err := syscall.Statfs(folder, &fs); err != nil {
		return 0
	}
	return int64(fs.Bavail) * fs.Bsize
}
