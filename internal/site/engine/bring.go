package engine

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/pkg/jsonmessage"
)

// bringImage brings an image from another engine that the service trusts like itself.
func (s *Site) bringImage(ctx context.Context, from *Site, name string, progress func(string)) error {
	return s.bring(ctx, from, name, "", progress)
}

// bring brings an image from another engine, without the layers that are here already: an
// engine gives all of them, and takes an archive that lacks those that it has. Where only is not
// empty, an archive that names another image than that is refused.
func (s *Site) bring(ctx context.Context, from *Site, name, only string, progress func(string)) error {
	var skip map[string]bool
	if !s.isPodman() { // whose archives must be whole
		var err error
		if skip, err = s.layersHere(ctx, from, name); err != nil {
			return err
		}
	}
	progress("bringing the image to the engine at " + s.o.Name)
	whole, err := from.api.ImageSave(ctx, []string{name})
	if err != nil {
		return from.explain(err, "give an image")
	}
	defer whole.Close()
	parts, w := io.Pipe()
	var archive io.Reader = whole
	if only != "" {
		checked, c := io.Pipe()
		go func() { c.CloseWithError(onlyNamed(whole, c, only)) }()
		defer checked.Close()
		archive = checked
	}
	go func() { w.CloseWithError(without(archive, w, skip)) }()
	defer parts.Close()
	said, err := s.api.ImageLoad(ctx, parts)
	if err != nil {
		return s.explain(err, "take an image")
	}
	defer said.Body.Close()
	return s.explain(followMessages(said.Body, func(jsonmessage.JSONMessage) {}), "take an image")
}

// layersHere names the files that an image's layers which are here already have in an archive of it.
func (s *Site) layersHere(ctx context.Context, from *Site, name string) (files map[string]bool, err error) {
	wanted, err := from.api.ImageInspect(ctx, name)
	if err != nil {
		return nil, from.explain(err, "look at an image")
	}
	list, err := s.api.ImageList(ctx, image.ListOptions{All: true})
	if err != nil {
		return nil, s.explain(err, "list the engine's images")
	}
	same := 0
	for _, i := range list {
		there, err := s.api.ImageInspect(ctx, i.ID)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return nil, s.explain(err, "look at an image")
		}
		same = max(same, sameFirst(wanted.RootFS.Layers, there.RootFS.Layers))
	}
	if same = wholeWithout(wanted.RootFS.Layers, same); same == 0 {
		return nil, nil
	}
	return layerFiles(wanted.RootFS.Layers, same), nil
}

// wholeWithout returns how many of the first layers an archive can lack. Of layers with the same content an archive has
// one, and links to it for the others: one that is needed further up must stay.
func wholeWithout(layers []string, same int) int {
	for _, needed := range layers[same:] {
		if i := slices.Index(layers[:same], needed); i >= 0 {
			same = i
		}
	}
	return same
}

// sameFirst tells how many layers two images have in common from the lowest one on.
func sameFirst(a, b []string) (n int) {
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

// mostManifest bounds the parts of an archive that name what is in it.
const mostManifest = 1 << 20

// without copies an archive but for some files.
func without(from io.Reader, to io.Writer, skip map[string]bool) error {
	if len(skip) == 0 {
		_, err := io.Copy(to, from)
		return err
	}
	w := tar.NewWriter(to)
	for r := tar.NewReader(from); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return w.Close()
		}
		if err != nil {
			return err
		}
		if skip[strings.TrimPrefix(h.Name, "./")] {
			continue
		}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		if _, err := io.Copy(w, r); err != nil {
			return err
		}
	}
}
