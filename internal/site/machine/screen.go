package machine

import (
	"context"
	"net"

	"domicile/internal/fault"
)

// screens gives the maker of machines that have screens, and the machine that a workspace is in.
func (s *Site) screens(ctx context.Context, workspace string) (Screens, string, error) {
	shows, is := s.o.Maker.(Screens)
	if !is {
		return nil, "", fault.New("no-screen", "choose another site", "the machines of this site have no screens")
	}
	m, found, err := s.machineOf(ctx, workspace)
	if err == nil && !found {
		err = fault.New("workspace-gone", "provision the workspace again", "the workspace's machine is gone from the site")
	}
	return shows, m.ID, err
}

// Screen opens a stream to the screen of a workspace's machine.
func (s *Site) Screen(ctx context.Context, workspace string) (net.Conn, error) {
	shows, machine, err := s.screens(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return shows.Screen(ctx, machine)
}

// Picture is what the screen of a workspace's machine shows.
func (s *Site) Picture(ctx context.Context, workspace string) ([]byte, error) {
	shows, machine, err := s.screens(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return shows.Picture(ctx, machine)
}
