package run

import (
	"context"
	"net"

	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
)

// screens gives what shows the screen of a workspace.
func (r *Runner) screens(ctx context.Context, w records.Workspace) (site.Screens, error) {
	at, err := r.place(w.Site)
	if err != nil {
		return nil, err
	}
	p, err := r.PlanOf(ctx, w)
	if err != nil {
		return nil, err
	}
	switch {
	case p.Container.Screen == "":
		return nil, fault.New("no-screen", `ask for one in the definition (customizations.domicile.screen, such as "1280x800"), and rebuild it`, "the workspace %s has no screen", w.Name)
	case at.can.Screens == nil:
		return nil, at.cannot(toShow)
	}
	return at.can.Screens, nil
}

// Screen opens a stream of the RFB protocol to the screen of a workspace that runs.
func (r *Runner) Screen(ctx context.Context, w records.Workspace) (net.Conn, error) {
	at, err := r.screens(ctx, w)
	if err != nil {
		return nil, err
	}
	return at.Screen(ctx, w.SiteID())
}

// Picture is what the screen of a workspace that runs shows, as PNG.
func (r *Runner) Picture(ctx context.Context, w records.Workspace) ([]byte, error) {
	at, err := r.screens(ctx, w)
	if err != nil {
		return nil, err
	}
	return at.Picture(ctx, w.SiteID())
}
