package engine

import (
	"context"

	"github.com/docker/docker/api/types/network"
)

// Join connects a workspace and its helpers.
func (s *Site) Join(ctx context.Context, workspace, name string, helpers map[string]string) error {
	network, err := s.helpersNetwork(ctx, workspace)
	if err != nil {
		return err
	}
	if err := s.connect(ctx, network, s.name(workspace), name); err != nil {
		return err
	}
	for id, alias := range helpers {
		if err := s.connect(ctx, network, s.name(id), alias); err != nil {
			return err
		}
	}
	return nil
}

// helpersNetwork makes the network of a workspace and its helpers, unless it is there, and
// gives its id.
func (s *Site) helpersNetwork(ctx context.Context, workspace string) (string, error) {
	id, err := s.oneNetwork(ctx, s.networkName(workspace, "helpers.own"), network.CreateOptions{Driver: "bridge", Labels: s.labels(workspace)}) // no Compose network is called so
	return id, s.explain(err, "make the network of the helpers")
}

func (s *Site) connect(ctx context.Context, to, container, alias string) error {
	err := s.api.NetworkConnect(ctx, to, container, &network.EndpointSettings{Aliases: []string{alias}})
	if isNotFound(err) || err != nil && isConnected(err) {
		return nil // it was removed, or is on it already
	}
	return s.explain(err, "connect "+alias+" to the network of the helpers")
}

// isConnected tells of a container that is on the network already.
func isConnected(err error) bool {
	return containsAny(err.Error(), "already exists in network", "is already connected")
}

// openNetwork makes the network of a workspace and what comes through its door, with the
// workspace on it.
func (s *Site) openNetwork(ctx context.Context, workspace string) (string, error) {
	name, err := s.helpersNetwork(ctx, workspace)
	if err != nil {
		return "", err
	}
	there, err := s.api.ContainerInspect(ctx, s.name(workspace))
	if err != nil {
		return "", s.explain(err, "look for the workspace's container")
	}
	return name, s.connect(ctx, name, there.ID, there.Config.Hostname)
}
