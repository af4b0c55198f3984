package machine

import (
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"domicile/internal/site"
)

// Find looks for the workspace's container. A machine that sleeps is not woken for it.
func (s *Site) Find(ctx context.Context, workspace string) (site.Instance, bool, error) {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil || !found {
		return site.Instance{}, false, err
	}
	if m.ID != workspace {
		return s.helper(ctx, m, workspace)
	}
	return s.instance(ctx, m)
}

func (s *Site) instance(ctx context.Context, m Machine) (site.Instance, bool, error) {
	if m.State == Running {
		e, err := s.engine(m.ID)
		if err != nil {
			return site.Instance{}, false, err
		}
		ctx, cancel := context.WithTimeout(ctx, askLimit)
		defer cancel()
		i, found, err := e.Find(ctx, m.ID)
		if err == nil && found && len(readMark(m).Services) > 0 {
			i.Services, err = e.Services(ctx, m.ID)
		}
		return i, found, err
	}
	v := readMark(m)
	i := site.Instance{Workspace: m.ID, Digest: v.Digest}
	if v.Running { // and nobody stopped it
		i.Ended, i.Fell = "its machine ended", true
	}
	return i, v.Digest != "", nil
}

// asking is how many machines are asked at one time, askLimit how long each has to answer: one
// that is silent on purpose keeps nobody from the others.
const (
	asking   = 8
	askLimit = 10 * time.Second
)

// List lists the workspaces' containers. Of a machine that runs and does not answer, it is told
// what is known.
func (s *Site) List(ctx context.Context) ([]site.Instance, error) {
	machines, err := s.o.Maker.List(ctx)
	if err != nil {
		return nil, err
	}
	found, lost := make([][]site.Instance, len(machines)), s.lostForGood(s.lostOutlets(ctx, machines), time.Now())
	var all errgroup.Group
	all.SetLimit(asking)
	for n, m := range machines {
		all.Go(func() (err error) {
			if found[n], err = s.instances(ctx, m); slices.Contains(lost, m.ID) {
				for i := range found[n] {
					found[n][i].CutOff = noWayOut
				}
			}
			return err
		})
	}
	if err := all.Wait(); err != nil {
		return nil, err
	}
	return slices.Concat(found...), nil
}

// instances tells of a machine's container, and of the helpers in it.
func (s *Site) instances(ctx context.Context, m Machine) (list []site.Instance, err error) {
	v := readMark(m)
	i, there, err := s.instance(ctx, m)
	silent := err != nil
	switch {
	case silent && ctx.Err() != nil:
		return nil, err
	case silent && v.Digest != "":
		list = append(list, site.Instance{Workspace: m.ID, Digest: v.Digest, Running: v.Running})
	case there:
		list = append(list, i)
	}
	for id, h := range v.Helpers {
		i, there, err := site.Instance{Workspace: id, Digest: h.Digest, Running: h.Running}, true, error(nil)
		if !silent { // one that was silent once is not asked again
			if i, there, err = s.helper(ctx, m, id); err != nil {
				i, there = site.Instance{Workspace: id, Digest: h.Digest, Running: h.Running}, true
			}
		}
		if there {
			list = append(list, i)
		}
	}
	return list, ctx.Err()
}
