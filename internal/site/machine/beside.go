package machine

import (
	"cmp"
	"context"
	"io"
	"slices"
	"time"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// EnsureNetworks makes the workspace's own networks in its machine.
func (s *Site) EnsureNetworks(ctx context.Context, workspace string, list plan.Judged[[]plan.Network]) error {
	if len(list.Value()) == 0 {
		return nil
	}
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	return e.EnsureNetworks(ctx, workspace, list)
}

// EnsureService makes a service beside the workspace, in its machine.
func (s *Site) EnsureService(ctx context.Context, workspace, digest string, judged plan.Judged[plan.Service], source string) error {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	v := judged.Value()
	if err := s.bring(ctx, e, cmp.Or(v.Saved, v.Image)); err != nil {
		return err
	}
	if err := s.change(ctx, workspace, func(m *mark) {
		if !slices.Contains(m.Services, v.Name) {
			m.Services = append(m.Services, v.Name)
		}
	}); err != nil {
		return err
	}
	return e.EnsureService(ctx, workspace, digest, judged, source)
}

// StartService starts a service in the workspace's machine.
func (s *Site) StartService(ctx context.Context, workspace, service string) error {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	return e.StartService(ctx, workspace, service)
}

// Services tells how the services beside a workspace are. A machine that sleeps is not woken for
// it: nothing in it runs.
func (s *Site) Services(ctx context.Context, workspace string) (list []site.Service, err error) {
	e, m, err := s.running(ctx, workspace)
	switch {
	case err != nil:
		return nil, err
	case e != nil:
		return e.Services(ctx, workspace)
	}
	for _, name := range readMark(m).Services {
		list = append(list, site.Service{Name: name, Started: true})
	}
	return list, nil
}

// running gives the engine of a workspace's machine where it runs; nil: it does not.
func (s *Site) running(ctx context.Context, workspace string) (*engine.Site, Machine, error) {
	m, found, err := s.o.Maker.Find(ctx, workspace)
	if err != nil || !found || m.State != Running {
		return nil, m, err
	}
	e, err := s.engine(workspace)
	return e, m, err
}

// ServiceLog writes the last lines that a service printed, where its machine runs.
func (s *Site) ServiceLog(ctx context.Context, workspace, service string, lines int, w io.Writer) error {
	e, _, err := s.running(ctx, workspace)
	if err == nil && e == nil {
		err = fault.New("machine-off", "start the workspace: domicile start", "the machine of the workspace does not run, and so its services say nothing")
	}
	if err != nil {
		return err
	}
	return e.ServiceLog(ctx, workspace, service, lines, w)
}

// ServiceListens opens a stream that tells what listens in a service, where its machine runs.
func (s *Site) ServiceListens(ctx context.Context, workspace, service string) (io.ReadCloser, error) {
	e, _, err := s.running(ctx, workspace)
	if err == nil && e == nil {
		err = fault.New("machine-off", "start the workspace: domicile start", "the machine of the workspace does not run, and so nothing listens in its services")
	}
	if err != nil {
		return nil, err
	}
	return e.ServiceListens(ctx, workspace, service)
}

// RestartService stops a service and starts it again.
func (s *Site) RestartService(ctx context.Context, workspace, service string) error {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	return e.RestartService(ctx, workspace, service)
}

// Worked tells how much processor time the services have taken. What sleeps does not work.
func (s *Site) Worked(ctx context.Context, workspace string) (time.Duration, error) {
	e, _, err := s.running(ctx, workspace)
	if err != nil || e == nil {
		return 0, err
	}
	return e.Worked(ctx, workspace)
}
