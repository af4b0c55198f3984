package run

import (
	"context"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/site"
)

// place is a site that the service knows, with what it can.
type place struct {
	name string
	site.Site
	can     site.Abilities
	drained bool          // it takes nothing new
	gone    chan struct{} // closed when it is removed, or opened anew
	record  records.Site  // empty: it is none of the records'
	own     ownSettings   // what it has in place of the service's settings
	close   func()        // nil: nothing is to be closed
}

// Services tells how the services beside a workspace are; none, where its site runs none.
func (r *Runner) Services(ctx context.Context, w records.Workspace) ([]site.Service, error) {
	at, err := r.place(w.Site)
	if err != nil || at.can.Beside == nil {
		return nil, err
	}
	list, err := at.can.Beside.Services(ctx, w.SiteID())
	if err != nil || len(list) == 0 {
		return nil, err
	}
	p, err := r.PlanOf(ctx, w)
	if err != nil {
		return nil, err
	}
	for i := range list { // a site may have another name for an image
		if v, err := p.ServiceByName(list[i].Name); err == nil {
			list[i].Image = v.Image
		}
	}
	return list, nil
}

// ServiceListens calls f with what listens in a service beside a workspace, at first and at each
// change, until ctx ends or the service does. The service must be one of the workspace's plan.
func (r *Runner) ServiceListens(ctx context.Context, w records.Workspace, service string, f func(wire.ListeningReport)) error {
	at, err := r.Overseer(w)
	if err != nil {
		return err
	}
	p, err := r.PlanOf(ctx, w)
	if err != nil {
		return err
	}
	v, err := p.ServiceByName(service)
	if err != nil {
		return err
	}
	stream, err := at.ServiceListens(ctx, w.SiteID(), v.Name)
	if err != nil {
		return err
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	return agentlink.Reports(ctx, stream, f)
}

// Prepares tells whether a site can make things ready ahead of time.
func (r *Runner) Prepares(site string) bool {
	at, err := r.place(site)
	return err == nil && at.can.Keeper != nil
}

// Overseer is the site of a workspace as it tells of single services.
func (r *Runner) Overseer(w records.Workspace) (site.Overseer, error) {
	at, err := r.place(w.Site)
	if err == nil && at.can.Overseer == nil {
		err = at.cannot(toTellServices)
	}
	return at.can.Overseer, err
}

func (r *Runner) place(name string) (place, error) {
	p, known := r.places.find(name)
	if !known {
		return p, fault.New("no-site", "domicile sites lists them", "there is no site %q", name)
	}
	return p, nil
}

// What a site may not be able to do, in words.
const (
	toKeepSnapshots = "keeps no snapshots"
	toTellServices  = "tells nothing of single services"
	toJoin          = "puts no helpers beside a workspace"
	toShow          = "gives no workspace a screen"
	toSetAside      = "keeps nothing of what a rebuild replaces"
	toTellAdded     = "does not tell what was added to an instance"
)

func (p place) cannot(what string) error {
	return fault.New("site-cannot", "domicile sites lists the others", "the site %s %s", p.name, what)
}
