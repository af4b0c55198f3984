package machine

import (
	"context"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// images gives the engine that pulls and builds for the machines.
func (s *Site) images() (*engine.Site, error) {
	if s.o.Images != nil {
		if e := s.o.Images(); e != nil {
			return e, nil
		}
	}
	return nil, fault.New("site-cannot", "give the service an engine too: domicile serve -engine", "no engine pulls and builds images for the machines")
}

// HasImage asks the engine that pulls for the machines.
func (s *Site) HasImage(ctx context.Context, image judge.Image) (bool, error) {
	e, err := s.images()
	if err != nil {
		return false, err
	}
	return e.HasImage(ctx, image)
}

// EnsureImage has the engine that pulls for the machines bring an image.
func (s *Site) EnsureImage(ctx context.Context, image judge.Image, progress func(string)) (site.Image, error) {
	e, err := s.images()
	if err != nil {
		return site.Image{}, err
	}
	return e.EnsureImage(ctx, image, progress)
}

// EnsureBuilt has the engine that builds for the machines build an image.
func (s *Site) EnsureBuilt(ctx context.Context, b site.Build, progress func(string)) (site.Image, error) {
	e, err := s.images()
	if err != nil {
		return site.Image{}, err
	}
	return e.EnsureBuilt(ctx, b, progress)
}

// holding gives the id of an image that the engine which pulls for the machines has.
func holding(ctx context.Context, images *engine.Site, name string) (string, error) {
	id, err := images.Holding(ctx, name)
	if err == nil && id == "" {
		err = fault.Transient(nil, "image-gone", "", "the image %s is gone from the engine that pulls for the machines", name)
	}
	return id, err
}
