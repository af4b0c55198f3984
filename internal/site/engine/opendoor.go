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
	for ctx.Err() == nil {
		if doorAnswers(ctx, folder) { // another replica of the service holds it open
			wait(ctx, doorEvery)
			continue
		}
		if err := s.holdDoor(ctx, workspace, folder); err != nil && ctx.Err() == nil {
			return err
		}
	}
	return nil
}

// doorEvery is how often it is looked whether a door still opens.
const doorEvery = 2 * time.Second

func doorAnswers(ctx context.Context, folder string) bool {
	conn, err := dialShared(ctx, filepath.Join(folder, filepath.Base(plan.DoorSocket)))
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

func wait(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}

// holdDoor serves a door until ctx ends, or until nobody can come through it any more: the
// workspace may write to the folder too.
func (s *Site) holdDoor(ctx context.Context, workspace, folder string) error {
	listener, err := listenIn(folder, filepath.Base(plan.DoorSocket))
	if err != nil {
		return err
	}
	d := &door.Door{API: s.api, Labels: s.labels(workspace), Workspace: workspace, Prefix: s.name(workspace) + "-d-", Source: s.name(workspace),
		Network: func(ctx context.Context) (string, error) { return s.openNetwork(ctx, workspace) },
		Hidden: func(labels map[string]string) bool {
			return labels[labelState] != "" || labels["domicile.image"] != ""
		}}
	server := &http.Server{Handler: d.Handler(), ReadHeaderTimeout: 10 * time.Second}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		for ctx.Err() == nil {
			wait(ctx, doorEvery)
			if !doorAnswers(ctx, folder) {
				break
			}
		}
		server.Close()
	}()
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// listenIn listens on a socket in a folder that the workspace may write to as well: nothing
// in it is followed. It is bound from within the folder, whose whole name may be longer
// than a socket's path can be.
func listenIn(folder, name string) (net.Listener, error) {
	at, err := os.OpenRoot(folder)
	if err != nil {
		return nil, fmt.Errorf("open the folder of the door: %w", err)
	}
	defer at.Close()
	if err := at.RemoveAll(name); err != nil {
		return nil, fmt.Errorf("remove the earlier door: %w", err)
	}
	held, err := at.Open(".")
	if err != nil {
		return nil, fmt.Errorf("open the folder of the door: %w", err)
	}
	defer held.Close()
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Net: "unix", Name: fmt.Sprintf("/proc/self/fd/%d/%s", held.Fd(), name)})
	if err != nil {
		return nil, fmt.Errorf("open the door: %w", err)
	}
	listener.SetUnlinkOnClose(false)
	if err := at.Chmod(name, 0o666); err != nil { // whoever is in the workspace may use it
		listener.Close()
		return nil, fmt.Errorf("open the door: %w", err)
	}
	return listener, nil
}

// closeDoor closes the door of a workspace that goes.
func (s *Site) closeDoor(workspace string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if cancel := s.doors[workspace]; cancel != nil {
		cancel()
	}
}
