package api

import (
	"context"
	"slices"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/run"
	"domicile/internal/site"
)

// Accounts are those at providers of rented instances.
type Accounts interface {
	// Try looks whether an account is one, and gives its key sealed for a site.
	Try(ctx context.Context, site, address, key string) (sealed []byte, err error)
}

// AddProvider adds a site of rented instances.
func (s *Server) AddProvider(ctx context.Context, q AddProviderRequestObject) (AddProviderResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	name := q.Body.Name
	if err := run.CheckName(name); err != nil { // before anything is asked
		return nil, err
	}
	sealed, err := s.o.Accounts.Try(ctx, name, q.Body.Address, q.Body.Key)
	if err != nil {
		return nil, err
	}
	if err := s.o.Runner.AddSite(ctx, records.Site{Name: name, Kind: string(site.Cloud), Address: q.Body.Address, Secret: sealed}); err != nil {
		return nil, err
	}
	found, err := s.o.Runner.Look(ctx, name)
	if err == nil {
		err = found.Err
	}
	if err != nil {
		return nil, err
	}
	return AddProvider201JSONResponse(each(found.Findings(), finding)), nil
}

// changeKey gives a site of rented instances another key of its account.
func (s *Server) changeKey(ctx context.Context, name, key string) error {
	v, err := s.o.Runner.SiteRecord(name)
	if err != nil {
		return err
	}
	if v.Kind != string(site.Cloud) {
		return fault.New("not-rented", "domicile sites lists those that are", "the site %s is none of rented instances: it has no key", name)
	}
	sealed, err := s.o.Accounts.Try(ctx, name, v.Address, key)
	if err != nil {
		return err
	}
	return s.o.Runner.SetSiteSecret(ctx, name, sealed)
}

// spent is what all that was rented at a site has cost, as last heard; nil: nothing was.
func (s *Server) spent(ctx context.Context, name string, sizes []plan.Size) (*Amount, error) {
	list, err := s.o.Store.RentalsEver(ctx, name)
	i := slices.IndexFunc(sizes, func(v plan.Size) bool { return v.Price.Currency != "" })
	if err != nil || i < 0 || len(list) == 0 {
		return nil, err
	}
	p := plan.Price{Currency: sizes[i].Price.Currency}
	for _, r := range list {
		p.Hour += r.Spent
	}
	return &Amount{Amount: p.PerHour(), Currency: p.Currency}, nil
}

func finding(f site.Finding) Finding {
	return Finding{What: f.What, Found: f.Found, Wanted: optional(f.Wanted), Fine: f.Fine, Remedy: optional(f.Remedy)}
}
