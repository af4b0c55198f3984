package engine

import (
	"context"
	"slices"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/volume"
)

// Whose an object is, its labels say, and here they are looked at: the filter of an engine
// only shortens the list. There are engines to which two labels mean either of them.

// mine filters what is a workspace's own, or any workspace's of this installation.
func (s *Site) mine(workspace string) filters.Args {
	label := labelWorkspace
	if workspace != "" {
		label += "=" + workspace
	}
	return filters.NewArgs(filters.Arg("label", labelInstallation+"="+s.o.Installation), filters.Arg("label", label))
}

// isMine tells whether labels are those of a workspace's own, or of any workspace's of this
// installation.
func (s *Site) isMine(labels map[string]string, workspace string) bool {
	whose, has := labels[labelWorkspace]
	return has && labels[labelInstallation] == s.o.Installation && (workspace == "" || whose == workspace)
}

// ownContainers lists all containers of a workspace, or of all: also those that were set
// aside, and those that came through the door. size tells to measure what they have written.
func (s *Site) ownContainers(ctx context.Context, workspace string, size bool) ([]container.Summary, error) {
	list, err := s.api.ContainerList(ctx, container.ListOptions{All: true, Size: size, Filters: s.mine(workspace)})
	return slices.DeleteFunc(list, func(c container.Summary) bool { return !s.isMine(c.Labels, workspace) }), err
}

// ownVolumes lists the volumes of a workspace.
func (s *Site) ownVolumes(ctx context.Context, workspace string) ([]*volume.Volume, error) {
	list, err := s.api.VolumeList(ctx, volume.ListOptions{Filters: s.mine(workspace)})
	return slices.DeleteFunc(list.Volumes, func(v *volume.Volume) bool { return !s.isMine(v.Labels, workspace) }), err
}

// ownNetworks lists the networks of a workspace, or of all.
func (s *Site) ownNetworks(ctx context.Context, workspace string) ([]network.Summary, error) {
	list, err := s.api.NetworkList(ctx, network.ListOptions{Filters: s.mine(workspace)})
	return slices.DeleteFunc(list, func(n network.Summary) bool { return !s.isMine(n.Labels, workspace) }), err
}
