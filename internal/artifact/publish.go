package artifact

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"strings"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"domicile/internal/archive"
)

// Publish puts features or templates into a registry the standard's way: each folder of
// files under its version and the shorter ones, and the namespace's list. kind is
// "feature" or "template", the name of the metadata file between its dots and hyphens.
func (s *Store) Publish(ctx context.Context, files fs.FS, namespace, kind string) error {
	folders, err := fs.ReadDir(files, ".")
	if err != nil {
		return fmt.Errorf("read what to publish: %w", err)
	}
	var list []json.RawMessage
	for _, folder := range folders {
		if !folder.IsDir() {
			continue
		}
		one, err := fs.Sub(files, folder.Name())
		if err != nil {
			return err
		}
		metadata, err := fs.ReadFile(one, "devcontainer-"+kind+".json")
		if err != nil {
			return fmt.Errorf("publish %s: %w", folder.Name(), err)
		}
		var buf bytes.Buffer
		if err := json.Compact(&buf, metadata); err != nil {
			return fmt.Errorf("read the metadata of %s: %w", folder.Name(), err)
		}
		list = append(list, buf.Bytes())
		if err := s.publish(ctx, one, buf.Bytes(), namespace); err != nil {
			return fmt.Errorf("publish %s: %w", folder.Name(), err)
		}
	}
	b, err := json.Marshal(map[string]any{"sourceInformation": map[string]string{"source": namespace}, kind + "s": list})
	if err != nil {
		return err
	}
	return s.push(ctx, b, CollectionLayerType, "devcontainer-collection.json", nil, namespace+":latest")
}

func (s *Store) publish(ctx context.Context, files fs.FS, metadata []byte, namespace string) error {
	var about struct{ ID, Version string }
	if err := json.Unmarshal(metadata, &about); err != nil {
		return err
	}
	var b bytes.Buffer
	if err := archive.Pack(&b, files); err != nil {
		return err
	}
	numbers := strings.Split(about.Version, ".")
	var refs []string
	for i := range numbers {
		refs = append(refs, namespace+"/"+about.ID+":"+strings.Join(numbers[:i+1], "."))
	}
	refs = append(refs, namespace+"/"+about.ID+":latest")
	return s.push(ctx, b.Bytes(), LayerType, about.ID+".tgz", map[string]string{MetadataAnnotation: string(metadata)}, refs...)
}

func (s *Store) push(ctx context.Context, layer []byte, layerType, title string, annotations map[string]string, refs ...string) error {
	image := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), ConfigType)
	image, err := mutate.Append(image, mutate.Addendum{Layer: static.NewLayer(layer, types.MediaType(layerType)), MediaType: types.MediaType(layerType),
		Annotations: map[string]string{"org.opencontainers.image.title": title}})
	if err != nil {
		return err
	}
	if annotations != nil {
		image = mutate.Annotations(image, annotations).(v1.Image)
	}
	for _, r := range refs {
		ref, err := name.ParseReference(r)
		if err != nil {
			return err
		}
		if err := remote.Write(ref, image, s.options(ctx)...); err != nil {
			return explain(err, r)
		}
	}
	return nil
}
