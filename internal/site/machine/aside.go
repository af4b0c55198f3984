package machine

import "context"

// SetAside keeps what a rebuild replaces, in the machine.
func (s *Site) SetAside(ctx context.Context, workspace string, wanted map[string]string) (bool, error) {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return false, err
	}
	return e.SetAside(ctx, workspace, wanted)
}

// Carry copies files from what was set aside into what took its place.
func (s *Site) Carry(ctx context.Context, workspace string, paths []string, owner int) error {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	return e.Carry(ctx, workspace, paths, owner)
}

// PutBack puts back what was set aside.
func (s *Site) PutBack(ctx context.Context, workspace string, services []string) error {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	if err := e.PutBack(ctx, workspace, services); err != nil {
		return err
	}
	i, found, err := e.Find(ctx, workspace)
	if err != nil || !found {
		return err
	}
	return s.change(ctx, workspace, func(v *mark) { v.Digest, v.Running, v.Services = i.Digest, i.Running, services })
}

// DropAside removes what was set aside.
func (s *Site) DropAside(ctx context.Context, workspace string) error {
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return err
	}
	return e.DropAside(ctx, workspace)
}

// Added lists the paths that were added to the container since it was made.
func (s *Site) Added(ctx context.Context, workspace string) ([]string, error) {
	m, found, err := s.machineOf(ctx, workspace)
	if err != nil || !found {
		return nil, err
	}
	e, err := s.engine(m.ID)
	if err != nil {
		return nil, err
	}
	return e.Added(ctx, workspace)
}
