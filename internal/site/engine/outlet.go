package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
)

// labelOutlet names the workspace that an outlet is for.
const labelOutlet = "domicile.outlet"

func (s *Site) outletName(workspace string) string { return s.name("outlet-" + workspace) }

// Outlet gives a network for something that is no container, such as the process of a machine:
// that of a container which does nothing, on the network of the workspaces. So whoever is in it
// has the border that all have. The container is there until RemoveOutlet.
func (s *Site) Outlet(ctx context.Context, workspace string) (*os.File, error) {
	if local, err := s.isLocal(ctx); err != nil || !local {
		return nil, errors.Join(err, fault.New("site-cannot", "", "the engine at %s is on another machine: it gives no network to what is on this one", s.o.Name))
	}
	if err := s.RemoveOutlet(ctx, workspace); err != nil { // one of earlier, whose network may be gone
		return nil, err
	}
	image, err := s.trialImage(ctx)
	if err != nil {
		return nil, err
	}
	network, err := s.ensureNetwork(ctx)
	if err != nil {
		return nil, err
	}
	labels := s.trialLabels()
	labels[labelOutlet] = workspace
	made, err := s.api.ContainerCreate(ctx, &container.Config{Image: image, Cmd: []string{wire.AgentPath, "stay"}, Labels: labels},
		&container.HostConfig{NetworkMode: container.NetworkMode(network), CapDrop: []string{"ALL"}, ReadonlyRootfs: true, Resources: container.Resources{Ulimits: defaultLimits(nil)}}, nil, nil, s.outletName(workspace))
	if err != nil {
		return nil, s.explain(err, "make the outlet of a machine")
	}
	s.borderFirst(ctx)
	if err := s.api.ContainerStart(ctx, made.ID, container.StartOptions{}); err != nil {
		// One that never ran is none: else its machine would wait for it for ever.
		return nil, errors.Join(s.explain(err, "start the outlet of a machine"), s.RemoveOutlet(context.WithoutCancel(ctx), workspace))
	}
	return s.networkOf(ctx, made.ID)
}

// networkOf opens the network of a container that runs. Its process is asked for before and
// after: the number of one that has ended may be another's.
func (s *Site) networkOf(ctx context.Context, id string) (*os.File, error) {
	var space *os.File
	last := 0
	for range 2 {
		c, err := s.api.ContainerInspect(ctx, id)
		if err == nil && (c.State == nil || !c.State.Running || c.State.Pid <= 1) {
			err = fmt.Errorf("it does not run")
		}
		if err == nil && space != nil && c.State.Pid != last {
			err = fmt.Errorf("it was started again meanwhile")
		}
		if err == nil && space == nil {
			last = c.State.Pid
			space, err = os.Open(fmt.Sprintf("/proc/%d/ns/net", last))
		}
		if err != nil {
			if space != nil {
				space.Close()
			}
			return nil, s.explain(err, "open the outlet of a machine")
		}
	}
	return space, nil
}

// LostOutlets are the workspaces whose machines' outlets have ended, as they do with the engine: what is
// in the network of such a one reaches nothing any more.
func (s *Site) LostOutlets(ctx context.Context) ([]string, error) {
	ours := filters.NewArgs(filters.Arg("label", labelOutlet), filters.Arg("label", labelInstallation+"="+s.o.Installation))
	list, err := s.api.ContainerList(ctx, container.ListOptions{All: true, Filters: ours})
	if err != nil {
		return nil, s.explain(err, "look for the outlets of machines")
	}
	var lost []string
	for _, c := range list {
		if of := s.outletOf(c); of != "" && (c.State == "exited" || c.State == "dead") {
			lost = append(lost, of)
		}
	}
	return lost, nil
}

// outletOf is the workspace that a container is an outlet for; "": it is none. A label alone says nothing,
// for an image may have any; the name is one container's.
func (s *Site) outletOf(c container.Summary) string {
	of := c.Labels[labelOutlet]
	if of == "" || c.Labels[labelInstallation] != s.o.Installation || !slices.Contains(c.Names, "/"+s.outletName(of)) {
		return ""
	}
	return of
}

// RemoveOutlet removes the outlet of a workspace's machine. One that is not there is no error.
func (s *Site) RemoveOutlet(ctx context.Context, workspace string) error {
	there, err := s.api.ContainerInspect(ctx, s.outletName(workspace))
	if isNotFound(err) {
		return nil
	}
	if err != nil {
		return s.explain(err, "look for the outlet of a machine")
	}
	if there.Config.Labels[labelInstallation] != s.o.Installation || there.Config.Labels[labelOutlet] != workspace {
		return fault.New("name-taken", "remove it", "the container %s is not ours", s.outletName(workspace))
	}
	err = s.api.ContainerRemove(ctx, there.ID, container.RemoveOptions{Force: true})
	if isNotFound(err) {
		return nil
	}
	return s.explain(err, "remove the outlet of a machine")
}
