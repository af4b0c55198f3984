package machine

import (
	"cmp"
	"context"
	"net"
	"slices"
	"strings"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// EnsurePlace makes the machine for a workspace and the services beside it, with all their images.
func (s *Site) EnsurePlace(ctx context.Context, workspace string, c plan.Judged[plan.Container], beside []plan.Judged[plan.Service]) error {
	if c.Value().HelperOf != "" { // it is in the machine of its workspace
		return nil
	}
	var list []plan.Service
	for _, v := range beside {
		list = append(list, v.Value())
	}
	_, err := s.place(ctx, workspace, c.Value(), list)
	return err
}

// place makes the machine for a container and the services beside it, brings their images into it,
// and gives the engine in it, which runs.
func (s *Site) place(ctx context.Context, workspace string, c plan.Container, beside []plan.Service) (*engine.Site, error) {
	host, err := s.o.Maker.Examine(ctx)
	if err != nil {
		return nil, err
	}
	images, err := s.images()
	if err != nil {
		return nil, err
	}
	var all, base []string
	add := func(image, saved string) error {
		name, id, err := common(ctx, images, image, saved, c.Prepared)
		if err == nil && !slices.Contains(all, name) {
			all, base = append(all, name), append(base, id+" "+name)
		}
		return err
	}
	if err := add(c.Image, c.Saved); err != nil {
		return nil, err
	}
	for _, v := range slices.SortedFunc(slices.Values(beside), func(a, b plan.Service) int { return cmp.Compare(a.Image, b.Image) }) {
		if err := add(v.Image, v.Saved); err != nil {
			return nil, err
		}
	}
	shape := s.shape(c, host)
	shape.Base = strings.Join(base, " ")
	at := func(do func(ctx context.Context, e *engine.Site) error) Doing {
		return func(ctx context.Context, dial func(context.Context) (net.Conn, error)) error {
			e, err := s.newEngine("a machine that becomes a template", dial, nil)
			if err == nil {
				err = do(ctx, e)
			}
			return err
		}
	}
	fill := func(ctx context.Context, e *engine.Site) error {
		if err := e.Prepare(ctx); err != nil {
			return err
		}
		return s.bring(ctx, e, all...)
	}
	err = s.o.Maker.Ensure(ctx, workspace, shape, &Prepare{Fill: at(fill), Warm: at(func(ctx context.Context, e *engine.Site) error { return e.Warm(ctx) })})
	if err != nil {
		return nil, err
	}
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return nil, err
	}
	return e, s.bring(ctx, e, all...)
}

// common is the image that a machine has in common with others that come from one template: the
// image itself, or what was prepared. That of one snapshot alone is none, unless nothing else is
// there.
func common(ctx context.Context, images *engine.Site, image, saved string, prepared bool) (name, id string, err error) {
	if saved == "" || !prepared {
		if id, err = holding(ctx, images, image); err == nil || saved == "" || fault.Code(err) != "image-gone" {
			return image, id, err
		}
	}
	id, err = holding(ctx, images, saved)
	return saved, id, err
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
