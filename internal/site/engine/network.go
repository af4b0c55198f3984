package engine

import (
	"cmp"
	"context"
	"slices"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"

	"domicile/internal/plan"
)

// ensureNetwork makes the one network that this installation's workspaces are on, and gives
// its id. They reach the world through it but not each other.
func (s *Site) ensureNetwork(ctx context.Context) (string, error) {
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
		if _, err := s.oneNetwork(ctx, s.networkName(workspace, n.Name), network.CreateOptions{Driver: "bridge", Internal: n.Internal, Labels: s.labels(workspace)}); err != nil {
			return s.explain(err, "make the network "+n.Name)
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
	return id, nil
}

// networkID finds the oldest of this installation's networks of a name; empty: there is none.
func (s *Site) networkID(ctx context.Context, name string) (string, error) {
	list, err := s.api.NetworkList(ctx, network.ListOptions{Filters: filters.NewArgs(filters.Arg("name", name), filters.Arg("label", labelInstallation+"="+s.o.Installation))})
	if err != nil {
		return "", err
	}
	list = slices.DeleteFunc(list, func(n network.Summary) bool { return n.Name != name }) // the filter takes parts of names too
	if len(list) == 0 {
		return "", nil
	}
	oldest := slices.MinFunc(list, func(a, b network.Summary) int { return cmp.Or(a.Created.Compare(b.Created), cmp.Compare(a.ID, b.ID)) })
	return oldest.ID, nil
}
