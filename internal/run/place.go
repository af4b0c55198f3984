package run

import (
	"domicile/internal/fault"
	"domicile/internal/site"
)

// place is a site that the service knows, with what it can.
type place struct {
	name string
	site.Site
	can site.Abilities
}

// Place finds a site of the service by its name, with what it can.
func (r *Runner) Place(name string) (site.Site, site.Abilities, error) {
	p, err := r.place(name)
	return p.Site, p.can, err
}

func (r *Runner) place(name string) (place, error) {
	p, known := r.places[name]
	if !known {
		return p, fault.New("no-site", "domicile sites lists them", "there is no site %q", name)
	}
	return p, nil
}

// placesOf asks each site once what it can.
func placesOf(sites map[string]site.Site) map[string]place {
	places := map[string]place{}
	for name, s := range sites {
		places[name] = place{name, s, site.Can(s)}
	}
	return places
}

// What a site may not be able to do, in words.
const (
	toKeepStates   = "keeps no states of workspaces"
	toRunServices  = "runs no services beside a workspace"
	toTellServices = "tells nothing of single services"
	toJoin         = "puts no helpers beside a workspace"
	toSetAside     = "keeps nothing of what a rebuild replaces"
	toTellAdded    = "does not tell what was added to an instance"
)

// CannotTellServices says that a site tells nothing of single services.
func CannotTellServices(site string) error { return place{name: site}.cannot(toTellServices) }

func (p place) cannot(what string) error {
	return fault.New("site-cannot", "domicile sites lists the others", "the site %s %s", p.name, what)
}
