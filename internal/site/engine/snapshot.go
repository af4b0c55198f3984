package engine

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/api/types/network"

	"domicile/internal/agent/wire"
	"domicile/internal/site"
)

// A snapshot is an image for each container: its files, and in its own layer those of its
// volumes at the places where they are mounted. An engine fills a new volume by itself with
// what the image has there; places that the image declares to be volumes are the
// exception, and are kept elsewhere in the image and filled by make.
const (
	labelSnapshot = "domicile.state"         // installation and snapshot
	labelVolumes  = "domicile.state-volumes" // JSON: mount target to where its files lie in the image
	keptVolumes   = "/.domicile-volumes"
)

func (s *Site) snapshotLabel(snapshot string) string { return s.o.Installation + "-" + snapshot }

func (s *Site) snapshotTag(snapshot, service string) string {
	if service == "" {
		service = "workspace"
	} else {
		service = "service-" + strings.ToLower(service)
	}
	return s.snapshotTags(snapshot) + service
}

// snapshotRepository begins the names of the images of snapshots.
const snapshotRepository = "domicile-state:"

// snapshotTags begins the names of a snapshot's images.
func (s *Site) snapshotTags(snapshot string) string {
	return snapshotRepository + s.hidden("state", s.snapshotLabel(snapshot)) + "-"
}

// Save keeps the snapshot of a workspace's containers.
func (s *Site) Save(ctx context.Context, workspace, snapshot string, progress func(string)) (site.Saved, error) {
	return s.saveEach(ctx, s, workspace, snapshot, func(c container.Summary, service string) (int64, error) {
		bytes, err := s.saveOne(ctx, c, snapshot, service, progress)
		return bytes, s.explain(err, "keep the snapshot of "+strings.TrimPrefix(c.Names[0], "/"))
	})
}

// saveEach keeps what each container has that a workspace has at an engine, by save, which tells
// how large it is. They are paused meanwhile, so that files and volumes are of one moment.
func (s *Site) saveEach(ctx context.Context, from *Site, workspace, snapshot string, save func(c container.Summary, service string) (int64, error)) (saved site.Saved, err error) {
	if err := s.RemoveSaved(ctx, snapshot); err != nil {
		return saved, err
	}
	list, err := from.containers(ctx, workspace)
	if err != nil {
		return saved, err
	}
	goOn, err := from.pauseAll(ctx, list)
	defer goOn()
	if err != nil {
		return saved, err
	}
	saved.Images = map[string]string{}
	for _, c := range list {
		service := c.Labels[labelService]
		bytes, err := save(c, service)
		if err != nil {
			return site.Saved{}, err
		}
		saved.Images[service] = s.snapshotTag(snapshot, service)
		saved.Bytes += bytes
	}
	return saved, nil
}

// pauseAll pauses containers, until goOn.
func (s *Site) pauseAll(ctx context.Context, list []container.Summary) (goOn func(), err error) {
	var paused []string
	goOn = func() {
		for _, id := range paused {
			_ = s.api.ContainerUnpause(context.WithoutCancel(ctx), id) // one that ended meanwhile is not paused
		}
	}
	for _, c := range list {
		if c.State == "running" {
			if err := s.api.ContainerPause(ctx, c.ID); err != nil {
				return goOn, s.explain(err, "pause the workspace")
			}
		}
		if c.State == "running" || c.State == "paused" {
			paused = append(paused, c.ID)
		}
	}
	return goOn, nil
}

// volumePlaces are the places at which a container has volumes, an outer one before those within
// it; kept tells of those that its image declares where they lie in an image that is made of it.
func (s *Site) volumePlaces(there container.InspectResponse, before map[string]struct{}) (places []string, kept map[string]string) {
	for _, m := range there.Mounts {
		if m.Type == mount.TypeVolume && m.Destination != wire.AgentFolder { // the agent is of the service
			places = append(places, m.Destination)
		}
	}
	slices.Sort(places)
	kept = map[string]string{}
	for i, place := range places {
		if _, declared := there.Config.Volumes[place]; declared || hasVolume(before, place) {
			kept[place] = fmt.Sprintf("%s/%d", keptVolumes, i)
		}
	}
	return places, kept
}

func (s *Site) saveOne(ctx context.Context, c container.Summary, snapshot, service string, progress func(string)) (int64, error) {
	there, err := s.api.ContainerInspect(ctx, c.ID)
	if err != nil {
		return 0, err
	}
	before, err := s.api.ImageInspect(ctx, there.Image)
	if err != nil {
		return 0, err
	}
	places, kept := s.volumePlaces(there, declaredBy(before))
	said, err := json.Marshal(kept)
	if err != nil {
		return 0, err
	}
	labels := []string{fmt.Sprintf("LABEL %s=%s", labelSnapshot, s.snapshotLabel(snapshot)), fmt.Sprintf("LABEL %s=%q", labelVolumes, said)}
	files, err := s.commit(ctx, c.ID, labels)
	if err != nil {
		return 0, err
	}
	// Never started: only a container gives a way into an image.
	carrier, err := s.api.ContainerCreate(ctx, &container.Config{Image: files.ID, Labels: s.labels("")}, &container.HostConfig{NetworkMode: "none"}, nil, nil, "")
	if err != nil {
		return 0, err
	}
	defer func() {
		_ = s.api.ContainerRemove(context.WithoutCancel(ctx), carrier.ID, container.RemoveOptions{Force: true, RemoveVolumes: true})
	}()
	for _, place := range places {
		progress("keeping " + place)
		if err := s.copyPlace(ctx, c.ID, place, carrier.ID, kept[place]); err != nil {
			return 0, fmt.Errorf("copy %s: %w", place, err)
		}
	}
	// An engine goes on with it when nobody waits any more. It gets its name only while the snapshot is
	// wanted: by then, what there is of it may have been removed, or made anew by somebody else.
	waited, done := context.WithTimeout(context.WithoutCancel(ctx), commitLimit)
	defer done()
	whole, err := s.commit(waited, carrier.ID, labels)
	if err != nil {
		return 0, err
	}
	if err := s.api.ImageTag(ctx, whole.ID, s.snapshotTag(snapshot, service)); err != nil {
		_, removeErr := s.api.ImageRemove(waited, whole.ID, image.RemoveOptions{})
		return 0, errors.Join(err, removeErr)
	}
	after, err := s.api.ImageInspect(ctx, whole.ID)
	return after.Size - before.Size, err
}

// commitLimit bounds how long an engine takes to make an image of a container's files.
const commitLimit = 10 * time.Minute

// commit makes an image of a container's files. Some engines want to be told its settings.
func (s *Site) commit(ctx context.Context, id string, labels []string) (container.CommitResponse, error) {
	there, err := s.api.ContainerInspect(ctx, id)
	if err != nil {
		return container.CommitResponse{}, err
	}
	return s.api.ContainerCommit(ctx, id, container.CommitOptions{Changes: labels, Pause: false, Config: there.Config})
}

// declaredBy are the places that an image declares to be volumes.
func declaredBy(i image.InspectResponse) map[string]struct{} {
	if i.Config == nil {
		return nil
	}
	return i.Config.Volumes
}

func hasVolume[V any](volumes map[string]V, place string) bool {
	_, has := volumes[place]
	return has
}

// copyPlace copies what is mounted at a place of one container to the same place of
// another, or to another folder.
func (s *Site) copyPlace(ctx context.Context, from, place, to, folder string) error {
	archive, _, err := s.api.CopyFromContainer(ctx, from, place)
	if err != nil {
		return err
	}
	archive = s.inside(archive)
	defer archive.Close()
	if folder == "" {
		return s.api.CopyToContainer(ctx, to, path.Dir(place), archive, container.CopyToContainerOptions{})
	}
	return s.copyAs(ctx, to, "/", strings.TrimPrefix(folder, "/"), archive)
}

// copyAs unpacks an archive of one folder under another name.
func (s *Site) copyAs(ctx context.Context, to, at, name string, archive io.Reader) error {
	r, w := io.Pipe()
	defer r.Close()
	go func() { w.CloseWithError(renamed(archive, name, w)) }()
	return s.api.CopyToContainer(ctx, to, at, r, container.CopyToContainerOptions{})
}

// renamed copies an archive whose entries lie in one folder, giving that another name.
func renamed(archive io.Reader, name string, to io.Writer) error {
	out := tar.NewWriter(to)
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		if err := out.WriteHeader(&tar.Header{Name: folder + "/", Typeflag: tar.TypeDir, Mode: 0o755}); err != nil {
			return err
		}
	}
	for in := tar.NewReader(archive); ; {
		h, err := in.Next()
		if err == io.EOF {
			return out.Close()
		}
		if err != nil {
			return err
		}
		rename := func(p string) string {
			if _, rest, found := strings.Cut(p, "/"); found && rest != "" {
				return path.Join(name, rest)
			}
			return name
		}
		h.Name = rename(h.Name)
		if h.Typeflag == tar.TypeLink {
			h.Linkname = rename(h.Linkname)
		}
		if h.Typeflag == tar.TypeDir {
			h.Name += "/"
		}
		if err := out.WriteHeader(h); err != nil {
			return err
		}
		if _, err := io.Copy(out, in); err != nil {
			return err
		}
	}
}

// filling ends the names of containers whose volumes are being filled. One that is found
// was left by a crash: then the volumes are filled again, whatever is in them.
const filling = ".filling"

// make makes a container. One that begins with a snapshot gets its name only when its volumes
// are filled.
func (s *Site) make(ctx context.Context, config *container.Config, host *container.HostConfig, networks *network.NetworkingConfig, name, saved string) (id string, err error) {
	kept, err := s.keptBy(ctx, saved)
	if err != nil {
		return "", err
	}
	if len(kept) == 0 {
		made, err := s.createContainer(ctx, config, host, networks, name)
		return made.ID, err
	}
	// What an image says of itself may be somebody else's word: only volumes are filled.
	maps.DeleteFunc(kept, func(place, folder string) bool {
		return !strings.HasPrefix(path.Clean(folder), keptVolumes+"/") || slices.ContainsFunc(host.Mounts, func(m mount.Mount) bool { return m.Target == place && m.Type != mount.TypeVolume })
	})
	named := map[string]bool{}
	for i, m := range host.Mounts {
		if _, has := kept[m.Target]; has && m.Type == mount.TypeVolume {
			named[m.Target] = true
			options := mount.VolumeOptions{NoCopy: true}
			if m.VolumeOptions != nil {
				options.Labels = m.VolumeOptions.Labels
			}
			host.Mounts[i].VolumeOptions = &options
		}
	}
	err = s.api.ContainerRemove(ctx, name+filling, container.RemoveOptions{Force: true})
	again := err == nil
	if err != nil && !isNotFound(err) {
		return "", err
	}
	made, err := s.createContainer(ctx, config, host, networks, name+filling)
	if err != nil {
		return "", err
	}
	for place, folder := range kept {
		empty := true // a volume without a name is the container's own, and new
		if named[place] && !again {
			if empty, err = s.empty(ctx, made.ID, place); err != nil {
				return "", err
			}
		}
		if !empty {
			continue
		}
		archive, _, err := s.api.CopyFromContainer(ctx, made.ID, folder)
		if err != nil {
			return "", err
		}
		archive = s.inside(archive)
		// Into the place itself: some engines see only then that a volume is there.
		err = s.copyAs(ctx, made.ID, place, ".", archive)
		archive.Close()
		if err != nil {
			return "", err
		}
	}
	return made.ID, s.api.ContainerRename(ctx, made.ID, name)
}

// keptBy tells which places of a snapshot the engine does not fill by itself, and where their
// files lie in its image.
func (s *Site) keptBy(ctx context.Context, saved string) (kept map[string]string, err error) {
	if saved == "" {
		return nil, nil
	}
	i, err := s.api.ImageInspect(ctx, s.local(saved))
	if err != nil {
		return nil, err
	}
	if i.Config != nil && i.Config.Labels[labelVolumes] != "" {
		if err := json.Unmarshal([]byte(i.Config.Labels[labelVolumes]), &kept); err != nil {
			return nil, fmt.Errorf("read what the snapshot %s has of volumes: %w", saved, err)
		}
	}
	return kept, nil
}

// empty tells whether a folder of a container has nothing in it.
func (s *Site) empty(ctx context.Context, id, place string) (bool, error) {
	archive, _, err := s.api.CopyFromContainer(ctx, id, place)
	if err != nil {
		return false, err
	}
	defer archive.Close()
	r := tar.NewReader(archive)
	for range 2 { // the folder itself, and something in it
		if _, err := r.Next(); err == io.EOF {
			return true, nil
		} else if err != nil {
			return false, err
		}
	}
	return false, nil
}

// RemoveSaved removes the images of a snapshot. Containers that were made from them keep
// what they need.
func (s *Site) RemoveSaved(ctx context.Context, snapshot string) error {
	list, err := s.api.ImageList(ctx, image.ListOptions{All: true, Filters: filters.NewArgs(filters.Arg("label", labelSnapshot+"="+s.snapshotLabel(snapshot)))})
	if err != nil {
		return s.explain(err, "look for the snapshot")
	}
	for _, i := range list {
		for _, tag := range tagsOf(i) {
			earlier := snapshotRepository + s.snapshotLabel(snapshot) + "-" // as an earlier version named them
			if !strings.HasPrefix(tag, s.snapshotTags(snapshot)) && !strings.HasPrefix(tag, earlier) {
				continue // a snapshot that was made from this one
			}
			if _, err := s.api.ImageRemove(ctx, tag, image.RemoveOptions{Force: true, PruneChildren: true}); err != nil && !isNotFound(err) {
				return s.explain(err, "remove the snapshot "+tag)
			}
		}
	}
	return nil
}
