package engine

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"domicile/internal/beneath"
	"domicile/internal/plan"
	"domicile/internal/site/engine/door"
)

// doorFolder is the folder of the service's host that a workspace's door lies in. The
// workspace sees it and may not write there.
func (s *Site) doorFolder(workspace string) string {
	return filepath.Join(s.o.Shared.Doors, workspace)
}

// doorway is a door that was opened.
type doorway struct {
	close context.CancelFunc
	// err is why it closed by itself; nil: it is open.
	err error
}

// OpenDoor serves the door of a workspace on a socket in a folder that the workspace sees.
func (s *Site) OpenDoor(ctx context.Context, workspace string) error {
	if s.o.Shared.Doors == "" {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	before := s.doors[workspace]
	if before != nil && before.err == nil {
		return nil
	}
	ctx, cancel := context.WithCancel(ctx)
	d := &doorway{close: cancel}
	s.doors[workspace] = d
	go func() {
		defer cancel()
		err := s.keepDoor(ctx, workspace)
		s.mu.Lock()
		defer s.mu.Unlock()
		if d.err = err; err == nil && s.doors[workspace] == d {
			delete(s.doors, workspace)
		}
	}()
	if before != nil {
		return before.err
	}
	return nil
}

// keepDoor holds a door open until ctx ends.
func (s *Site) keepDoor(ctx context.Context, workspace string) error {
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
	conn, err := beneath.Dial(ctx, folder, filepath.Base(plan.DoorSocket))
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

// holdDoor serves a door until ctx ends, or until nobody can come through it any more:
// another replica of the service may have opened one in its place.
func (s *Site) holdDoor(ctx context.Context, workspace, folder string) error {
	listener, err := beneath.Listen(folder, filepath.Base(plan.DoorSocket), 0o666) // whoever is in the workspace may use it
	if err != nil {
		return fmt.Errorf("open the door: %w", err)
	}
	d := &door.Door{API: s.api, Labels: s.ownLabels(workspace), Given: s.labels(workspace), Workspace: workspace, Prefix: s.name(workspace) + "-d-", Source: s.name(workspace),
		Network: func(ctx context.Context) (string, error) { return s.openNetwork(ctx, workspace) }, Create: s.createContainer, CreateVolume: s.createVolume, MayAsk: s.o.MayAsk}
	defer d.Close()
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

// closeDoor closes the door of a workspace that goes.
func (s *Site) closeDoor(workspace string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if d := s.doors[workspace]; d != nil {
		d.close()
	}
}

// ownLabels tell whose an object is.
func (s *Site) ownLabels(workspace string) map[string]string {
	return map[string]string{labelInstallation: s.o.Installation, labelWorkspace: workspace}
}
