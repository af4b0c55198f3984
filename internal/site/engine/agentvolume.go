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
	"time"

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
	if filled || s.markedFilled(ctx) {
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
	// Others who come to this engine need not look into the volume: that takes a machine of its own more
	// than a second. Where it cannot be marked, they look.
	_ = s.api.VolumeRemove(ctx, s.agentVolume()+filledMark, false) // of a volume that is gone
	_, _ = s.api.VolumeCreate(ctx, volume.CreateOptions{Name: s.agentVolume() + filledMark, Labels: map[string]string{labelAgent: a.digest}})
	s.mu.Lock()
	defer s.mu.Unlock()
	s.filled[a.digest] = true
	return nil
}

// filledMark ends the name of an empty volume that was made after the agent's was filled.
const filledMark = "-filled"

// markedFilled tells whether the agent's volume is known to be filled: it is older than its mark.
func (s *Site) markedFilled(ctx context.Context) bool {
	a := s.agentNow()
	made := func(name string) (time.Time, bool) {
		v, err := s.api.VolumeInspect(ctx, name)
		if err != nil || v.Labels[labelAgent] != a.digest {
			return time.Time{}, false
		}
		at, err := time.Parse(time.RFC3339, v.CreatedAt)
		return at, err == nil
	}
	mark, marked := made(s.agentVolume() + filledMark)
	its, there := made(s.agentVolume())
	if !marked || !there || its.After(mark) {
		return false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.filled[a.digest] = true
	return true
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
