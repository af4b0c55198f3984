package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/docker/docker/api/types/container"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
)

// cutOff tells that the folder of the agent's socket is gone, as it is after the service's data were
// lost: what is mounted in the container is a folder that nobody else has any more.
func (s *Site) cutOff(shares bool, workspace string) bool {
	if !shares || filepath.Base(workspace) != workspace { // it comes from a label
		return false
	}
	_, err := os.Lstat(s.socketFolder(workspace))
	return errors.Is(err, fs.ErrNotExist)
}

// ensureSockets makes the folder of the agent's socket anew where it is gone. A container that runs with
// the old one is stopped first: what is mounted in it cannot be changed.
func (s *Site) ensureSockets(ctx context.Context, workspace, name string) error {
	shares, err := s.sharesFolder(ctx)
	if err != nil || !s.cutOff(shares, workspace) {
		return err
	}
	there, err := s.api.ContainerInspect(ctx, name)
	if err != nil || there.HostConfig == nil {
		return nil // what is wrong is told at its start
	}
	for _, m := range there.HostConfig.Mounts {
		if m.Target == wire.SocketFolder && m.Source != s.socketFolder(workspace) {
			return fault.New("data-moved", "domicile rebuild makes its container anew, or start the service with its data where they were", "the workspace was made by a service whose data were in another folder: %s", m.Source)
		}
	}
	if there.State != nil && there.State.Running {
		if err := s.api.ContainerStop(ctx, name, container.StopOptions{}); err != nil {
			return s.explain(err, "stop the workspace's container, which cannot be reached any more")
		}
	}
	if err := s.giveFolder(s.socketFolder(workspace)); err != nil {
		return fmt.Errorf("make the folder of the agent's socket: %w", err)
	}
	return nil
}
