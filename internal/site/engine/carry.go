package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/image"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/site"
)

// BringMade brings images that were made at another engine. What that one gives is checked on its
// way: an archive could bring images of other names, too.
func (s *Site) BringMade(ctx context.Context, from site.Carrier, images []judge.Image, progress func(string)) error {
	other, err := storeOf(from)
	if err != nil {
		return err
	}
	for _, i := range images {
		if !i.Made() {
			return fmt.Errorf("bring an image: %q was not made by this service", i.Name())
		}
		name := s.local(i.Name()) // which is the same at all engines of an installation
		if err := s.bring(ctx, other, name, name, progress); err != nil {
			return err
		}
	}
	return nil
}

// TakeIn brings the images of a snapshot that was kept at an engine whose word is not taken. Each
// must be of that snapshot, so that it is found when the snapshot is removed.
func (s *Site) TakeIn(ctx context.Context, from *Site, snapshot string, saved site.Saved, progress func(string)) error {
	for service := range saved.Images {
		name := s.snapshotTag(snapshot, service)
		if err := s.bring(ctx, from, name, name, progress); err != nil {
			return err
		}
		i, err := s.api.ImageInspect(ctx, name)
		if err != nil {
			return s.explain(err, "look at what was taken in")
		}
		if i.Config == nil || i.Config.Labels[labelSnapshot] != s.snapshotLabel(snapshot) {
			_, err := s.api.ImageRemove(context.WithoutCancel(ctx), name, image.RemoveOptions{})
			return errors.Join(fault.New("not-a-snapshot", "look what was done in the workspace", "what the engine of %s gives is no image of the snapshot", from.o.Name), err)
		}
	}
	return nil
}

// Close ends the connections to the engine that nothing uses.
func (s *Site) Close() error { return s.api.Close() }

// Store is the engine that has what is kept at this site.
func (s *Site) Store() (*Site, error) { return s, nil }

func storeOf(c site.Carrier) (*Site, error) {
	if kept, is := c.(interface{ Store() (*Site, error) }); is {
		return kept.Store()
	}
	return nil, fault.New("site-cannot", "choose another site", "an engine takes in only what another engine has kept")
}

// SharesStore tells that two sites reach one engine.
func (s *Site) SharesStore(ctx context.Context, c site.Carrier) (bool, error) {
	other, err := storeOf(c)
	if err != nil {
		return false, err
	}
	here, err := s.api.Info(ctx)
	if err != nil {
		return false, s.explain(err, "look at the engine")
	}
	there, err := other.api.Info(ctx)
	if err != nil {
		return false, other.explain(err, "look at the engine")
	}
	// Several engines of one host may share an id, and hosts that were copied their names.
	return here.ID == there.ID && here.Name == there.Name && here.DockerRootDir == there.DockerRootDir, nil
}

// onlyNamed copies an image's archive that names no other image than this one.
func onlyNamed(from io.Reader, to io.Writer, name string) error {
	w := tar.NewWriter(to)
	for r := tar.NewReader(from); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return w.Close()
		}
		if err != nil {
			return err
		}
		body := io.Reader(r)
		if names, says := namesIn[path.Clean("/"+h.Name)]; says {
			if h.Typeflag != tar.TypeReg || h.Size > mostManifest {
				return fmt.Errorf("the archive's %s is no small file", h.Name)
			}
			b, err := io.ReadAll(r)
			if err != nil {
				return err
			}
			found, err := names(b)
			if err != nil {
				return fmt.Errorf("read the archive's %s: %w", h.Name, err)
			}
			if i := slices.IndexFunc(found, func(f string) bool { return !isCalled(f, name) }); i >= 0 {
				return fmt.Errorf("the archive brings an image %q beside the one that was asked for", found[i])
			}
			body = bytes.NewReader(b)
		}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		if _, err := io.Copy(w, body); err != nil {
			return err
		}
	}
}

// isCalled tells that a name in an archive is that of an image: some engines write it out.
func isCalled(found, name string) bool {
	return found == name || found == "localhost/"+name || found == "docker.io/library/"+name
}

// namesIn are the files of an image's archive that give images their names, and how they do.
var namesIn = map[string]func([]byte) ([]string, error){
	"/manifest.json": func(b []byte) (names []string, err error) {
		var list []struct{ RepoTags []string }
		err = json.Unmarshal(b, &list)
		for _, i := range list {
			names = append(names, i.RepoTags...)
		}
		return names, err
	},
	"/repositories": func(b []byte) (names []string, err error) {
		var list map[string]map[string]string
		err = json.Unmarshal(b, &list)
		for repository, tags := range list {
			for tag := range tags {
				names = append(names, repository+":"+tag)
			}
		}
		return names, err
	},
	"/index.json": func(b []byte) (names []string, err error) {
		var index struct {
			Manifests []struct{ Annotations map[string]string }
		}
		err = json.Unmarshal(b, &index)
		for _, m := range index.Manifests {
			if name := m.Annotations["io.containerd.image.name"]; name != "" {
				names = append(names, name)
			}
			if name := m.Annotations["org.opencontainers.image.ref.name"]; strings.ContainsAny(name, ":/") {
				names = append(names, name)
			}
		}
		return names, err
	},
}
