package engine

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"strings"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/pkg/jsonmessage"

	"domicile/internal/fault"
	"domicile/internal/layer"
	"domicile/internal/site"
)

// Layers are where the layers of a snapshot come from: an engine whose word is not taken, and the
// way to the files that it has.
type Layers struct {
	From   *Site
	Folder string // where a layer lies until it is taken in; empty: the usual place for such files
	Most   int64  // how large a layer may be, in bytes
	// Dial opens the stream on which a layer is asked for: its parts as JSON, answered by the layer
	// and its end.
	Dial func(ctx context.Context) (net.Conn, error)
}

// ErrNotHere is that a snapshot cannot be kept by its layers alone: the image that they lie on is not
// here, or the other engine keeps its files in another way.
var ErrNotHere = errors.New("what the layers lie on is not here")

// SaveLayers keeps the snapshot of a workspace that another engine has: what its containers have
// beyond their images, as layers on the same images here. Nothing else of what the other engine
// says goes into it but the settings of the containers.
func (s *Site) SaveLayers(ctx context.Context, l Layers, workspace, snapshot string, progress func(string)) (saved site.Saved, err error) {
	if s.isPodman() { // whose archives must be whole
		return saved, ErrNotHere
	}
	saved, err = s.saveEach(ctx, l.From, workspace, snapshot, func(c container.Summary, service string) (int64, error) {
		return s.saveLayer(ctx, l, c.ID, snapshot, service, progress)
	})
	if err != nil {
		err = errors.Join(err, s.RemoveSaved(context.WithoutCancel(ctx), snapshot))
	}
	return saved, err
}

func (s *Site) saveLayer(ctx context.Context, l Layers, id, snapshot, service string, progress func(string)) (int64, error) {
	there, err := l.From.api.ContainerInspect(ctx, id)
	if err != nil {
		return 0, l.From.explain(err, "look at a container")
	}
	before, err := s.api.ImageInspect(ctx, there.Image)
	if isNotFound(err) {
		return 0, ErrNotHere
	}
	if err != nil {
		return 0, s.explain(err, "look at an image")
	}
	upper := there.GraphDriver.Data["UpperDir"]
	if upper == "" || there.Config == nil {
		return 0, ErrNotHere
	}
	parts := []layer.Part{{From: upper, Upper: true}}
	places, kept := s.volumePlaces(there, declaredBy(before))
	for _, place := range places {
		at := place
		if kept[place] != "" {
			at = kept[place]
		}
		for _, m := range there.Mounts {
			if m.Destination == place && m.Type == mount.TypeVolume {
				parts = append(parts, layer.Part{From: m.Source, At: strings.TrimPrefix(path.Clean("/"+at), "/")})
			}
		}
		progress("keeping " + place)
	}
	said, err := json.Marshal(kept)
	if err != nil {
		return 0, err
	}
	config := *there.Config
	config.Image, config.Labels = "", map[string]string{labelSnapshot: s.snapshotLabel(snapshot), labelVolumes: string(said)}
	file, err := l.fetch(ctx, parts)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	return s.loadLayer(ctx, before, config, s.snapshotTag(snapshot, service), file)
}

// layerLimit is how long a layer may take to come: the workspace is paused meanwhile, and whoever
// gives it may do so without end.
const layerLimit = 15 * time.Minute

// fetch gets a layer into a file, which has no name: it goes when it is closed.
func (l Layers) fetch(ctx context.Context, parts []layer.Part) (file *os.File, err error) {
	ctx, cancel := context.WithTimeout(ctx, layerLimit)
	defer cancel()
	stream, err := l.Dial(ctx)
	if err != nil {
		return nil, err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	if err := json.NewEncoder(stream).Encode(parts); err != nil {
		return nil, fmt.Errorf("ask for a layer: %w", err)
	}
	if l.Folder != "" {
		if err := os.MkdirAll(l.Folder, 0o700); err != nil {
			return nil, fmt.Errorf("make the folder for a layer: %w", err)
		}
	}
	if file, err = os.CreateTemp(l.Folder, "layer-"); err != nil {
		return nil, fmt.Errorf("make the file of a layer: %w", err)
	}
	defer func() {
		if err != nil {
			file.Close()
		}
	}()
	if err := os.Remove(file.Name()); err != nil {
		return nil, fmt.Errorf("take the name of a layer's file: %w", err)
	}
	n, err := io.Copy(file, io.LimitReader(stream, l.Most+1))
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil:
		return nil, fault.Wrap(err, "disk-full", "look at the disk of the service's host, and at the machine", "what is kept of the workspace did not come whole")
	case n > l.Most:
		return nil, fault.New("disk-full", "make room: domicile tidy; or remove what is large in the workspace", "what is to be kept of the workspace is larger than half of what is free")
	case n == 0:
		return nil, ErrNotHere // an earlier version is in that machine
	}
	end := make([]byte, len(layer.End))
	at := n - int64(len(end))
	if at < 0 {
		at = 0
	}
	if _, err := file.ReadAt(end, at); err != nil || string(end) != layer.End {
		return nil, fault.Transient(err, "connection-lost", "", "what is kept of the workspace did not come whole")
	}
	return file, file.Truncate(at)
}

// loadLayer makes an image of one that is here and a layer on it. The archive has this layer alone:
// an engine takes those that it has.
func (s *Site) loadLayer(ctx context.Context, before image.InspectResponse, config container.Config, name string, file *os.File) (int64, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	sum := sha256.New()
	size, err := io.Copy(sum, file)
	if err != nil {
		return 0, fmt.Errorf("read a layer: %w", err)
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	const own = "own/layer.tar"
	var layers []string
	for n := range before.RootFS.Layers {
		layers = append(layers, fmt.Sprintf("there-%d/layer.tar", n))
	}
	settings, err := json.Marshal(map[string]any{"architecture": before.Architecture, "os": before.Os, "created": time.Now().UTC(), "config": config,
		"rootfs": map[string]any{"type": "layers", "diff_ids": append(before.RootFS.Layers, "sha256:"+hex.EncodeToString(sum.Sum(nil)))}})
	if err != nil {
		return 0, err
	}
	manifest, err := json.Marshal([]map[string]any{{"Config": "config.json", "RepoTags": []string{name}, "Layers": append(layers, own)}})
	if err != nil {
		return 0, err
	}
	r, w := io.Pipe()
	defer r.Close()
	go func() {
		out := tar.NewWriter(w)
		err := errors.Join(whole(out, "config.json", settings), whole(out, "manifest.json", manifest), out.WriteHeader(&tar.Header{Name: own, Typeflag: tar.TypeReg, Mode: 0o600, Size: size}))
		if err == nil {
			_, err = io.Copy(out, file)
		}
		w.CloseWithError(errors.Join(err, out.Close()))
	}()
	answer, err := s.api.ImageLoad(ctx, r)
	if err != nil {
		return 0, s.explain(err, "take a layer")
	}
	defer answer.Body.Close()
	return size, s.explain(followMessages(answer.Body, func(jsonmessage.JSONMessage) {}), "take a layer")
}

func whole(w *tar.Writer, name string, b []byte) error {
	if err := w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o600, Size: int64(len(b))}); err != nil {
		return err
	}
	_, err := w.Write(b)
	return err
}
