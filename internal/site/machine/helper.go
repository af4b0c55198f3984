package machine

import (
	"context"
	"fmt"
	"net"
	"time"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// A helper has no machine of its own: it is a container in the machine of its workspace, beside
// that one's. What is kept with the machine tells which helpers it has.

// machineOf tells whose machine an instance is in: its own, or that of the workspace that it is a
// helper of. Where there is none, found is false.
func (s *Site) machineOf(ctx context.Context, id string) (m Machine, found bool, err error) {
	m, found, err = s.o.Maker.Find(ctx, id)
	if err != nil || found {
		return m, found, err
	}
	s.mu.Lock()
	known := s.homes[id]
	s.mu.Unlock()
	if known != "" {
		m, found, err = s.o.Maker.Find(ctx, known)
		if err != nil || found && readMark(m).Helpers[id] != nil {
			return m, found, err
		}
	}
	all, err := s.o.Maker.List(ctx)
	if err != nil {
		return Machine{}, false, err
	}
	for _, m := range all {
		if readMark(m).Helpers[id] != nil {
			s.mu.Lock()
			s.homes[id] = m.ID
			s.mu.Unlock()
			return m, true, nil
		}
	}
	return Machine{}, false, nil
}

// ensureHelper makes a helper in the machine of its workspace.
func (s *Site) ensureHelper(ctx context.Context, id string, judged plan.Judged[plan.Container]) error {
	if err := JudgeID(id); err != nil {
		return err
	}
	c := judged.Value()
	e, err := s.awake(ctx, c.HelperOf)
	if fault.Code(err) == "machine-gone" {
		return fault.Wrap(err, "workspace-gone", "provision the workspace again", "the machine of the helper's workspace is gone from the site")
	}
	if err != nil {
		return err
	}
	// It is noted before it is made: what a crash leaves is found.
	if err := s.changeHelper(ctx, c.HelperOf, id, func(v *helperMark) { v.Digest, v.Running = c.Digest, false }); err != nil {
		return err
	}
	if err := s.bring(ctx, e, c.Image, c.Saved); err != nil {
		return err
	}
	if c.SourceTarget != "" && c.SourceOf == "" && c.SourceFolder == "" {
		if _, err := e.EnsureVolume(ctx, id); err != nil {
			return err
		}
	}
	return e.EnsureInstance(ctx, id, judged)
}

// changeHelper changes what is kept of a helper with its workspace's machine.
func (s *Site) changeHelper(ctx context.Context, machine, id string, how func(*helperMark)) error {
	return s.change(ctx, machine, func(v *mark) {
		h := v.Helpers[id]
		if h == nil {
			h = &helperMark{}
		}
		if v.Helpers == nil {
			v.Helpers = map[string]*helperMark{}
		}
		how(h)
		v.Helpers[id] = h
	})
}

// stopHelper stops a helper. Its workspace's machine goes on.
func (s *Site) stopHelper(ctx context.Context, m Machine, id string, grace time.Duration) error {
	if m.State == Running {
		e, err := s.engine(m.ID)
		if err == nil {
			err = e.Stop(ctx, id, grace, false)
		}
		if err != nil {
			return err
		}
	}
	return s.changeHelper(ctx, m.ID, id, func(v *helperMark) { v.Running = false })
}

// removeHelper removes a helper from its workspace's machine, which is woken for it where it
// sleeps.
func (s *Site) removeHelper(ctx context.Context, m Machine, id string) (err error) {
	if m.State != Running {
		defer s.asleepAgain(ctx, m, &err)
	}
	e, err := s.awake(ctx, m.ID)
	if err != nil {
		return err
	}
	if err := e.Remove(ctx, id); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.homes, id)
	s.mu.Unlock()
	return s.change(ctx, m.ID, func(v *mark) { delete(v.Helpers, id) })
}

// helper tells how a helper is. A machine that sleeps is not woken for it.
func (s *Site) helper(ctx context.Context, m Machine, id string) (site.Instance, bool, error) {
	if m.State == Running {
		e, err := s.engine(m.ID)
		if err != nil {
			return site.Instance{}, false, err
		}
		ctx, cancel := context.WithTimeout(ctx, askLimit)
		defer cancel()
		return e.Find(ctx, id)
	}
	v := readMark(m).Helpers[id]
	i := site.Instance{Workspace: id, Digest: v.Digest}
	if v.Running { // and nobody stopped it
		i.Ended, i.Fell = "its machine ended", true
	}
	return i, true, nil
}

// Join puts a workspace and its helpers on a network in the workspace's machine.
func (s *Site) Join(ctx context.Context, workspace, name string, helpers map[string]string) (map[string]string, error) {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return e.Join(ctx, workspace, name, helpers)
}

// ServeDoor serves who comes to the door to the engine in the workspace's machine. What is asked
// for there is pulled by the engine that pulls for the machines.
func (s *Site) ServeDoor(ctx context.Context, workspace string, listener net.Listener) error {
	m, found, err := s.machineOf(ctx, workspace)
	if err == nil && !found {
		err = fault.Transient(nil, "workspace-gone", "", "the workspace's machine is not there")
	}
	if err != nil {
		return err
	}
	e, err := s.engine(m.ID)
	if err != nil {
		return err
	}
	return e.ServeDoor(ctx, workspace, listener)
}

// fetch brings an image that was asked for through a door into a machine, by its own name.
func (s *Site) fetch(ctx context.Context, e *engine.Site, image judge.Image, progress func(string)) error {
	images, err := s.images()
	if err != nil {
		return err
	}
	if _, err := images.EnsurePublic(ctx, image, progress); err != nil {
		return err
	}
	if err := s.bring(site.Telling(ctx, progress), e, image.Name()); err != nil {
		return err
	}
	if err := e.Name(ctx, image); err != nil {
		return fmt.Errorf("name the image %s: %w", image.Name(), err)
	}
	return nil
}
