package engine

import (
	"archive/tar"
	"context"
	"path"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/container"
)

// aside ends the names of containers that were set aside while others take their places.
const aside = ".aside"

// asideGrace is how long a container that is set aside has to end, in seconds.
const asideGrace = 10

// SetAside stops and renames those containers that are not as they are wanted. Where one
// is aside already, what stands in its place came of an earlier try and goes.
func (s *Site) SetAside(ctx context.Context, workspace string, wanted map[string]string) (bool, error) {
	list, err := s.containers(ctx, workspace)
	if err != nil {
		return false, err
	}
	kept, err := s.setAside(ctx, workspace)
	if err != nil {
		return false, err
	}
	for _, c := range list {
		digest, stays := wanted[c.Labels[labelService]]
		if stays && digest == c.Labels[labelDigest] {
			continue
		}
		name := strings.TrimPrefix(c.Names[0], "/")
		if slices.ContainsFunc(kept, func(k container.Summary) bool { return k.Names[0] == "/"+name+aside }) {
			err = s.api.ContainerRemove(ctx, c.ID, container.RemoveOptions{Force: true})
		} else if err = s.api.ContainerStop(ctx, c.ID, container.StopOptions{Timeout: new(asideGrace)}); err == nil || isNotFound(err) {
			err = s.api.ContainerRename(ctx, c.ID, name+aside)
			kept = append(kept, c)
		}
		if err != nil && !isNotFound(err) {
			return false, s.explain(err, "set the earlier container aside")
		}
	}
	return len(kept) > 0, nil
}

// setAside lists what of a workspace was set aside.
func (s *Site) setAside(ctx context.Context, workspace string) ([]container.Summary, error) {
	list, err := s.ownContainers(ctx, workspace, false)
	if err != nil {
		return nil, s.explain(err, "list what was set aside")
	}
	return slices.DeleteFunc(list, func(c container.Summary) bool { return len(c.Names) == 0 || !strings.HasSuffix(c.Names[0], aside) }), nil
}

// Carry copies files from the workspace's own container that was set aside.
func (s *Site) Carry(ctx context.Context, workspace string, paths []string, owner int) error {
	from := s.name(workspace) + aside
	for _, p := range paths {
		archive, _, err := s.api.CopyFromContainer(ctx, from, p)
		if isNotFound(err) {
			continue // there is no such file, or nothing was set aside
		}
		if err == nil {
			archive = s.inside(archive)
			if s.isOwnerless() {
				archive = renumbered(archive, func(h *tar.Header) { h.Uid = owner })
			}
			err = s.api.CopyToContainer(ctx, s.name(workspace), path.Dir(p), archive, container.CopyToContainerOptions{})
			archive.Close()
		}
		if err != nil && !isNotFound(err) {
			return s.explain(err, "carry "+p+" over")
		}
	}
	return nil
}

// PutBack gives the containers that were set aside their places again.
func (s *Site) PutBack(ctx context.Context, workspace string, services []string) error {
	kept, err := s.setAside(ctx, workspace)
	if err != nil {
		return err
	}
	for _, c := range kept {
		name := strings.TrimSuffix(strings.TrimPrefix(c.Names[0], "/"), aside)
		if err := s.api.ContainerRemove(ctx, name, container.RemoveOptions{Force: true}); err != nil && !isNotFound(err) {
			return s.explain(err, "remove the container that was to take the place")
		}
		if err := s.api.ContainerRename(ctx, c.ID, name); err != nil {
			return s.explain(err, "put the earlier container back")
		}
	}
	list, err := s.containers(ctx, workspace)
	if err != nil {
		return err
	}
	for _, c := range list {
		if name := c.Labels[labelService]; name != "" && !slices.Contains(services, name) {
			if err := s.api.ContainerRemove(ctx, c.ID, container.RemoveOptions{Force: true}); err != nil && !isNotFound(err) {
				return s.explain(err, "remove the service "+name)
			}
		}
	}
	for _, name := range services {
		if err := s.StartService(ctx, workspace, name); err != nil && !isNotFound(err) {
			return err
		}
	}
	return s.Start(ctx, workspace)
}

// DropAside removes what was set aside.
func (s *Site) DropAside(ctx context.Context, workspace string) error {
	kept, err := s.setAside(ctx, workspace)
	if err != nil {
		return err
	}
	for _, c := range kept {
		if err := s.api.ContainerRemove(ctx, c.ID, container.RemoveOptions{Force: true}); err != nil && !isNotFound(err) && !isBeingRemoved(err) {
			return s.explain(err, "remove the earlier container")
		}
	}
	return nil
}
