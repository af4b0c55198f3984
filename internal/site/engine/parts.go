package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"path"
	"strings"

	"github.com/docker/docker/api/types/container"

	"domicile/internal/judge"
	"domicile/internal/plan"
)

// linkParts makes the parts of the repository that a container mounts links into its source,
// which is in the same container: so they are the files themselves, and nothing of the host
// is reached for them.
func (s *Site) linkParts(ctx context.Context, id string, c plan.Container) error {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	some := false
	for _, m := range c.Mounts {
		if m.Type != judge.MountFile {
			continue
		}
		some = true
		h := &tar.Header{Name: strings.TrimPrefix(path.Clean(m.Target), "/"), Typeflag: tar.TypeSymlink, Linkname: path.Join(c.SourceTarget, m.Source), Mode: 0o777}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil || !some {
		return err
	}
	return s.explain(s.api.CopyToContainer(ctx, id, "/", &b, container.CopyToContainerOptions{AllowOverwriteDirWithFile: true}), "put links to parts of the source in")
}
