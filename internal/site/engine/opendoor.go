package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"domicile/internal/plan"
	"domicile/internal/site/engine/door"
)

// doorFolder is the folder of the service's host that a workspace's door lies in.
func (s *Site) doorFolder(workspace string) string {
	return filepath.Join(s.socketFolder(workspace), "door")
}

// OpenDoor serves the door of a workspace on a socket in a folder that the workspace sees.
// A door that is open already stays; then it returns at once.
func (s *Site) OpenDoor(ctx context.Context, workspace string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s.mu.Lock()
	if s.doors[workspace] != nil {
		s.mu.Unlock()
		return nil
	}
	s.doors[workspace] = cancel
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.doors, workspace)
	}()
	folder := s.doorFolder(workspace)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("make the folder of the door: %w", err)
	}
	// The socket's name may be longer than a socket's path can be, so it is bound from
	// within its folder. The workspace may write there too: nothing is followed.
	at, err := os.OpenRoot(folder)
	if err != nil {
		return fmt.Errorf("open the folder of the door: %w", err)
	}
	defer at.Close()
	name := filepath.Base(plan.DoorSocket)
	if err := at.RemoveAll(name); err != nil {
		return fmt.Errorf("remove the earlier door: %w", err)
	}
	held, err := at.Open(".")
	if err != nil {
		return fmt.Errorf("open the folder of the door: %w", err)
	}
	defer held.Close()
	listener, err := net.Listen("unix", fmt.Sprintf("/proc/self/fd/%d/%s", held.Fd(), name))
	if err != nil {
		return fmt.Errorf("open the door: %w", err)
	}
	listener.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := at.Chmod(name, 0o666); err != nil { // whoever is in the workspace may use it
		listener.Close()
		return fmt.Errorf("open the door: %w", err)
	}
	d := &door.Door{API: s.api, Labels: s.labels(workspace), Workspace: workspace, Prefix: s.name(workspace) + "-d-", Source: s.name(workspace),
		Network: func(ctx context.Context) (string, error) { return s.openNetwork(ctx, workspace) },
		Hidden: func(labels map[string]string) bool {
			return labels[labelState] != "" || labels["domicile.image"] != ""
		}}
	server := &http.Server{Handler: d.Handler(), ReadHeaderTimeout: 10 * time.Second}
	stop := context.AfterFunc(ctx, func() { server.Close() })
	defer stop()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// closeDoor closes the door of a workspace that goes.
func (s *Site) closeDoor(workspace string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if cancel := s.doors[workspace]; cancel != nil {
		cancel()
	}
}
