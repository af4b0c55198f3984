package engine

import (
	"context"

	"github.com/docker/docker/api/types/network"
)

// Join connects a workspace and its helpers.
func (s *Site) Join(ctx context.Context, workspace, name string, helpers map[string]string) (map[string]string, error) {
	to, err := s.helpersNetwork(ctx, workspace)
	if err != nil {
		return nil, err
	}
	apart, err := s.onMachineNetwork(ctx, workspace)
	if err != nil {
		return nil, err
	}
	if !apart {
		if err := s.connect(ctx, to, s.name(workspace), name); err != nil {
			return nil, err
		}
	}
	var addresses map[string]string
	for id, alias := range helpers {
		if err := s.connect(ctx, to, s.name(id), alias); err != nil {
			return nil, err
		}
		if !apart {
			continue
		}
		there, err := s.api.ContainerInspect(ctx, s.name(id))
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return nil, s.explain(err, "look at the helper "+alias)
		}
		for _, at := range there.NetworkSettings.Networks {
			if at.NetworkID == to && at.IPAddress != "" {
				if addresses == nil {
					addresses = map[string]string{}
				}
				addresses[alias] = at.IPAddress
			}
		}
	}
	return addresses, nil
}

// onMachineNetwork tells that a workspace is on the network of its machine: it reaches the networks
// there and is found at their gateways, but is on none of them, and knows no names.
func (s *Site) onMachineNetwork(ctx context.Context, workspace string) (bool, error) {
	if !s.o.Alone {
		return false, nil
	}
	there, err := s.api.ContainerInspect(ctx, s.name(workspace))
	if isNotFound(err) {
		return false, nil
	}
	return err == nil && there.HostConfig.NetworkMode.IsHost(), s.explain(err, "look for the workspace's container")
}

// parentHosts lets a helper find its workspace by name where that is on no network with it.
func (s *Site) parentHosts(ctx context.Context, parent string) ([]string, error) {
	apart, err := s.onMachineNetwork(ctx, parent)
	if err != nil || !apart {
		return nil, err
	}
	there, err := s.api.ContainerInspect(ctx, s.name(parent))
	if err != nil {
		return nil, s.explain(err, "look for the helper's workspace")
	}
	return []string{there.Config.Hostname + ":host-gateway"}, nil
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
	return containsAny(err.Error(), atNetworkAlready, "is already connected")
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
