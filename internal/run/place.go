package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

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
	gone    chan struct{} // closed when it is removed
}

// Services tells how the services beside a workspace are; none, where its site runs none.
func (r *Runner) Services(ctx context.Context, w records.Workspace) ([]site.Service, error) {
	at, err := r.place(w.Site)
	if err != nil || at.can.Beside == nil {
		return nil, err
	}
	return at.can.Beside.Services(ctx, w.SiteID())
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

// RemoveSite forgets a drained site at which nothing is any more.
func (r *Runner) RemoveSite(ctx context.Context, name string) error {
	at, err := r.place(name)
	if err != nil {
		return err
	}
	if !at.drained {
		return fault.New("site-in-use", "leave it out of -engine and start the service again; then it is drained", "the service was given the site %s at its start", name)
	}
	err = r.o.Store.RemoveSite(ctx, name)
	if errors.Is(err, records.ErrBusy) {
		return fault.New("site-in-use", "remove the workspaces, snapshots and prepared sources that are there first", "something is at the site %s still", name)
	}
	if err != nil {
		return fmt.Errorf("remove the site %s: %w", name, err)
	}
	r.places.remove(name)
	return nil
}

// places are the sites that the service knows.
type places struct {
	mu     sync.RWMutex
	byName map[string]place
}

// placesOf are these sites, of which some take nothing new.
func placesOf(sites map[string]site.Site, drained []string) *places {
	p := &places{byName: map[string]place{}}
	for name, s := range sites {
		p.byName[name] = place{name: name, Site: s, can: site.Can(s), drained: slices.Contains(drained, name), gone: make(chan struct{})}
	}
	return p
}

func (p *places) find(name string) (place, bool) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	at, known := p.byName[name]
	return at, known
}

// all lists them by name.
func (p *places) all() []place {
	p.mu.RLock()
	defer p.mu.RUnlock()
	return slices.SortedFunc(maps.Values(p.byName), func(a, b place) int { return cmp.Compare(a.name, b.name) })
}

// learn asks a site again what it can: it may not have known before it was examined.
func (p *places) learn(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if at, known := p.byName[name]; known {
		at.can = site.Can(at.Site)
		p.byName[name] = at
	}
}

func (p *places) remove(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if at, known := p.byName[name]; known {
		close(at.gone)
		delete(p.byName, name)
	}
}

// What a site may not be able to do, in words.
const (
	toKeepSnapshots = "keeps no snapshots"
	toTellServices  = "tells nothing of single services"
	toJoin          = "puts no helpers beside a workspace"
	toSetAside      = "keeps nothing of what a rebuild replaces"
	toTellAdded     = "does not tell what was added to an instance"
)

func (p place) cannot(what string) error {
	return fault.New("site-cannot", "domicile sites lists the others", "the site %s %s", p.name, what)
}
