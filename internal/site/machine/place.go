package machine

import (
	"context"
	"net"
	"slices"
	"strings"

	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// EnsurePlace makes the machine for a workspace and the services beside it, with all their images.
func (s *Site) EnsurePlace(ctx context.Context, workspace string, c plan.Judged[plan.Container], beside []plan.Judged[plan.Service]) error {
	var images []string
	for _, v := range beside {
		images = append(images, v.Value().Image)
	}
	_, err := s.place(ctx, workspace, c.Value(), images)
	return err
}

// place makes the machine for a container, brings its image and others into it, and gives the
// engine in it, which runs.
func (s *Site) place(ctx context.Context, workspace string, c plan.Container, others []string) (*engine.Site, error) {
	host, err := s.o.Maker.Examine(ctx)
	if err != nil {
		return nil, err
	}
	images, err := s.images()
	if err != nil {
		return nil, err
	}
	all := []string{c.Image}
	for _, name := range slices.Sorted(slices.Values(others)) {
		if !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	var base []string
	for _, name := range all {
		id, err := holding(ctx, images, name)
		if err != nil {
			return nil, err
		}
		base = append(base, id+" "+name)
	}
	shape := s.shape(c, host)
	shape.Base = strings.Join(base, " ")
	err = s.o.Maker.Ensure(ctx, workspace, shape, func(ctx context.Context, dial func(context.Context) (net.Conn, error)) error {
		e, err := s.newEngine("a machine that becomes a template", dial)
		if err == nil {
			err = e.Prepare(ctx)
		}
		if err == nil {
			err = s.bring(ctx, e, all...)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return e, s.bring(ctx, e, all...)
}

// bring brings images into a machine that has them not; no name is no image.
func (s *Site) bring(ctx context.Context, e *engine.Site, names ...string) error {
	images, err := s.images()
	if err != nil {
		return err
	}
	for _, name := range names {
		if name == "" {
			continue
		}
		id, err := holding(ctx, images, name)
		if err != nil {
			return err
		}
		if err := e.Bring(ctx, images, name, id, func(line string) { site.Tell(ctx, "%s", line) }); err != nil {
			return err
		}
	}
	return nil
}
