package api

import (
	"context"

	"domicile/internal/fault"
	"domicile/internal/records"
	"domicile/internal/run"
	"domicile/internal/site"
)

// Hosts are what the service knows of hosts that are reached over SSH.
type Hosts interface {
	// Ask asks the host at an address for its key, as in an authorized_keys line, and those that
	// lead there, whose keys are in the lines before it.
	Ask(ctx context.Context, address, through string) (keys string, err error)
	// Fingerprint is what a person compares of the last of these keys.
	Fingerprint(keys string) string
	// Known tells what the hosts that lead to one are known by, the nearest first.
	Known(through, keys string) []KnownHost
	// Install is the line by which a host lets the service in.
	Install() string
	// Examine looks at the host of a site, beside its engine.
	Examine(ctx context.Context, v records.Site) ([]site.Finding, error)
}

// AddSite adds a host, and pins the key that it shows now.
func (s *Server) AddSite(ctx context.Context, q AddSiteRequestObject) (AddSiteResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	if err := run.CheckName(q.Body.Name); err != nil { // before anything is dialled
		return nil, err
	}
	through := value(q.Body.Through)
	key, err := s.o.Hosts.Ask(ctx, q.Body.Address, through)
	if err != nil {
		return nil, err
	}
	if err := s.o.Runner.AddSite(ctx, records.Site{Name: q.Body.Name, Kind: string(site.Remote), Address: q.Body.Address, Through: through, HostKey: key}); err != nil {
		return nil, err
	}
	return AddSite201JSONResponse{Name: q.Body.Name, Fingerprint: s.o.Hosts.Fingerprint(key), Install: s.o.Hosts.Install(), Through: s.through(through, key)}, nil
}

// TrustHost pins the key that a site's host shows now.
func (s *Server) TrustHost(ctx context.Context, q TrustHostRequestObject) (TrustHostResponseObject, error) {
	v, err := s.host(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	key, err := s.o.Hosts.Ask(ctx, v.Address, v.Through)
	if err != nil {
		return nil, err
	}
	if err := s.o.Runner.PinHost(ctx, q.Name, key); err != nil {
		return nil, err
	}
	return TrustHost200JSONResponse{Name: q.Name, Fingerprint: s.o.Hosts.Fingerprint(key), Before: optional(s.o.Hosts.Fingerprint(v.HostKey)), Install: s.o.Hosts.Install(), Through: s.through(v.Through, key)}, nil
}

func (s *Server) through(through, keys string) *[]KnownHost {
	list := s.o.Hosts.Known(through, keys)
	if len(list) == 0 {
		return nil
	}
	return &list
}

// host finds the site of a host, for an administrator.
func (s *Server) host(ctx context.Context, name string) (records.Site, error) {
	if err := administrator(ctx); err != nil {
		return records.Site{}, err
	}
	v, err := s.o.Runner.SiteRecord(name)
	if err == nil && v.Kind != string(site.Remote) {
		err = fault.New("not-a-host", "domicile sites lists those that are", "The site %s is not reached over SSH", name)
	}
	return v, err
}

// DrainSite lets a site take nothing new, or something again.
func (s *Server) DrainSite(ctx context.Context, q DrainSiteRequestObject) (DrainSiteResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	return DrainSite204Response{}, s.o.Runner.DrainSite(ctx, q.Name, q.Body.Drained)
}

// ExamineSite examines a site now: its host first, where that is another one.
func (s *Server) ExamineSite(ctx context.Context, q ExamineSiteRequestObject) (ExamineSiteResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	v, err := s.o.Runner.SiteRecord(q.Name)
	if err != nil {
		return nil, err
	}
	var list []site.Finding
	if v.Kind == string(site.Remote) {
		if list, err = s.o.Hosts.Examine(ctx, v); err != nil {
			return nil, err
		}
	}
	found, err := s.o.Runner.Look(ctx, q.Name)
	switch {
	case err != nil:
		return nil, err
	case found.Err != nil && len(list) == 0:
		return nil, found.Err
	case found.Err != nil:
		list = append(list, site.Finding{What: "engine", Found: found.Err.Error(), Wanted: "it answers", Remedy: fault.Remedy(found.Err)})
	default:
		list = append(list, found.Findings()...)
	}
	return ExamineSite200JSONResponse(each(list, finding)), nil
}
