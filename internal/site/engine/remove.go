package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/network"
)

// Remove removes the workspace's containers, volumes, networks and sockets, those that
// came through its door among them.
func (s *Site) Remove(ctx context.Context, workspace string) error {
	if workspace == "" || strings.ContainsAny(workspace, "/.") {
		return fmt.Errorf("remove: %q is no workspace's id", workspace)
	}
	containers, err := s.ownContainers(ctx, workspace, false)
	if err != nil {
		return s.explain(err, "list the workspace's containers")
	}
	for _, c := range containers {
		if err := s.api.ContainerRemove(ctx, c.ID, container.RemoveOptions{Force: true, RemoveVolumes: true}); err != nil && !isNotFound(err) && !isBeingRemoved(err) {
			return s.explain(err, "remove the workspace's container")
		}
	}
	volumes, err := s.ownVolumes(ctx, workspace)
	if err != nil {
		return s.explain(err, "list the workspace's volumes")
	}
	for _, v := range volumes {
		if err := s.api.VolumeRemove(ctx, v.Name, false); err != nil && !isNotFound(err) {
			return s.explain(err, "remove the workspace's volume")
		}
	}
	networks, err := s.ownNetworks(ctx, workspace)
	if err != nil {
		return s.explain(err, "list the workspace's networks")
	}
	for _, n := range networks {
		if err := s.removeNetwork(ctx, n.ID); err != nil {
			return s.explain(err, "remove the workspace's network")
		}
	}
	if s.o.Shared.Views != "" {
		if err := s.dropView(workspace); err != nil {
			return err
		}
		// Only the empty folder: what is mounted there is somebody's.
		if err := os.Remove(filepath.Join(s.o.Shared.Views, workspace)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("remove the folder of a view: %w", err)
		}
	}
	if s.o.Shared.Sockets == "" {
		return nil
	}
	return os.RemoveAll(s.socketFolder(workspace)) // links in it are removed, not followed
}

// removeNetwork takes those off the network that are still on it, such as helpers.
func (s *Site) removeNetwork(ctx context.Context, id string) error {
	n, err := s.api.NetworkInspect(ctx, id, network.InspectOptions{})
	if isNotFound(err) {
		return nil
	}
	if err != nil {
		return err
	}
	for container := range n.Containers {
		if err := s.api.NetworkDisconnect(ctx, id, container, true); err != nil && !isNotFound(err) {
			return err
		}
	}
	if err := s.api.NetworkRemove(ctx, id); err != nil && !isNotFound(err) {
		return err
	}
	s.dropBorder(ctx, n.Name)
	return nil
}

// isBeingRemoved tells of a container that another request removes already.
func isBeingRemoved(err error) bool {
	return strings.Contains(err.Error(), "is already in progress")
}
