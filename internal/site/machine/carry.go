package machine

import (
	"context"

	"domicile/internal/judge"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// Store is the engine that has what the machines begin with.
func (s *Site) Store() (*engine.Site, error) { return s.images() }

// SharesStore tells that what another site keeps is kept by the engine that pulls for the machines.
func (s *Site) SharesStore(ctx context.Context, other site.Carrier) (bool, error) {
	images, err := s.images()
	if err != nil {
		return false, err
	}
	return images.SharesStore(ctx, other)
}

// BringMade brings images to the engine that pulls for the machines.
func (s *Site) BringMade(ctx context.Context, from site.Carrier, list []judge.Image, progress func(string)) error {
	images, err := s.images()
	if err != nil {
		return err
	}
	return images.BringMade(ctx, from, list, progress)
}
