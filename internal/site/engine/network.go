package engine

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"

	"domicile/internal/fault"
	"domicile/internal/plan"
)

// ensureNetwork makes the one network that this installation's workspaces are on, and gives
// its id. They reach the world through it but not each other.
func (s *Site) ensureNetwork(ctx context.Context) (string, error) {
	if s.o.Alone {
		return machineNetwork, nil
	}
	s.mu.Lock()
	known := s.network
	s.mu.Unlock()
	if known != "" {
		return known, nil
	}
	id, err := s.oneNetwork(ctx, "domicile-"+s.o.Installation, network.CreateOptions{Driver: "bridge",
		Labels:  map[string]string{labelInstallation: s.o.Installation},
		Options: map[string]string{"com.docker.network.bridge.enable_icc": "false"}})
	if err != nil {
		return "", s.explain(err, "make the workspaces' network")
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.network = id
	return id, nil
}

// EnsureNetworks makes the workspace's own networks.
func (s *Site) EnsureNetworks(ctx context.Context, workspace string, list plan.Judged[[]plan.Network]) error {
	for _, n := range list.Value() {
		o := network.CreateOptions{Driver: "bridge", Internal: n.Internal, Labels: s.labels(workspace)}
		if len(n.Subnets) > 0 {
			there, err := s.networkID(ctx, s.networkName(workspace, n.Name))
			if err == nil && there == "" {
				err = s.mayRoute(ctx, n)
			}
			if err != nil {
				return s.explain(err, "look for the network "+n.Name)
			}
			o.IPAM = &network.IPAM{}
			for _, subnet := range n.Subnets {
				o.IPAM.Config = append(o.IPAM.Config, network.IPAMConfig{Subnet: subnet})
				o.EnableIPv6 = new(o.EnableIPv6 != nil && *o.EnableIPv6 || strings.Contains(subnet, ":"))
			}
		}
		if _, err := s.oneNetwork(ctx, s.networkName(workspace, n.Name), o); err != nil {
			return s.explain(err, "make the network "+n.Name)
		}
	}
	return nil
}

// mayRoute refuses a network whose addresses the engine's host reaches some other way: the
// network would take that way's place for everybody there. Where the host is another machine
// it cannot be seen, and no network has addresses of its own choice.
func (s *Site) mayRoute(ctx context.Context, n plan.Network) error {
	local, err := s.isLocal(ctx)
	if err != nil {
		return err
	}
	routes, err := hostRoutes()
	if !local || err != nil {
		return fault.New("not-carried-out", "take ipam out of the Compose file: addresses are then chosen", "the network %s wants addresses of its own choice, and the routes of this site's host cannot be seen", n.Name)
	}
	for _, text := range n.Subnets {
		wanted, err := netip.ParsePrefix(text)
		if err != nil {
			return err // it was judged
		}
		for _, r := range routes {
			if r.Bits() > 0 && r.Overlaps(wanted) {
				return fault.New("not-carried-out", "choose another range in the Compose file, or take ipam out: addresses are then chosen", "the network %s wants the addresses %s, which this site's host reaches another way (%s)", n.Name, wanted, r)
			}
		}
	}
	return nil
}

// oneNetwork makes a network unless it is there, and gives its id. An engine lets two
// networks have one name where two ask at the same moment, and then says that the name is
// ambiguous: so the oldest counts, who made another one takes it away again, and it is
// spoken of by its id.
func (s *Site) oneNetwork(ctx context.Context, name string, o network.CreateOptions) (id string, err error) {
	s.making.Lock()
	defer s.making.Unlock()
	if id, err = s.networkID(ctx, name); err != nil || id != "" {
		return id, err
	}
	o.Options = s.apart(name, o.Options)
	made, err := s.api.NetworkCreate(ctx, name, o)
	if err != nil && !cerrdefs.IsConflict(err) {
		return "", err
	}
	if id, err = s.networkID(ctx, name); err != nil {
		return "", err
	}
	if made.ID != "" && id != made.ID {
		_ = s.api.NetworkRemove(ctx, made.ID) // one that is left does no harm
	}
	// What is wrong with the border is told when the site is examined.
	s.border(ctx)
	return id, nil
}

// networkID finds the oldest of this installation's networks of a name; empty: there is none.
func (s *Site) networkID(ctx context.Context, name string) (string, error) {
	list, err := s.api.NetworkList(ctx, network.ListOptions{Filters: filters.NewArgs(filters.Arg("name", name), filters.Arg("label", labelInstallation+"="+s.o.Installation))})
	if err != nil {
		return "", err
	}
	list = slices.DeleteFunc(list, func(n network.Summary) bool { return n.Name != name || n.Labels[labelInstallation] != s.o.Installation }) // the filter takes parts of names too
	if len(list) == 0 {
		return "", nil
	}
	oldest := slices.MinFunc(list, func(a, b network.Summary) int { return cmp.Or(a.Created.Compare(b.Created), cmp.Compare(a.ID, b.ID)) })
	return oldest.ID, nil
}
