package engine

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/network"

	"domicile/internal/site/engine/door"
)

// ServeDoor serves who comes to a workspace's door.
func (s *Site) ServeDoor(ctx context.Context, workspace string, listener net.Listener) error {
	d := &door.Door{API: s.api, Labels: s.ownLabels(workspace), Given: s.labels(workspace), Workspace: workspace, Prefix: s.name(workspace) + "-d-", Source: s.name(workspace),
		Network: func(ctx context.Context) (string, error) { return s.openNetwork(ctx, workspace) }, Create: s.createThroughDoor, CreateVolume: s.createVolume, MayAsk: s.o.MayAsk, Fetch: s.o.Fetch}
	defer d.Close()
	server := &http.Server{Handler: d.Handler(), ReadHeaderTimeout: 10 * time.Second}
	defer server.Close()
	defer context.AfterFunc(ctx, func() { server.Close() })()
	err := server.Serve(listener)
	if errors.Is(err, http.ErrServerClosed) || errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// createThroughDoor makes a container that came through a door, with the bounds of all.
func (s *Site) createThroughDoor(ctx context.Context, config *container.Config, host *container.HostConfig, networks *network.NetworkingConfig, name string) (container.CreateResponse, error) {
	var asked []string
	for _, u := range host.Ulimits {
		asked = append(asked, u.Name+"=")
	}
	host.Ulimits = append(host.Ulimits, defaultLimits(asked)...)
	return s.createContainer(ctx, config, host, networks, name)
}

// ownLabels tell whose an object is.
func (s *Site) ownLabels(workspace string) map[string]string {
	return map[string]string{labelInstallation: s.o.Installation, labelWorkspace: workspace}
}
