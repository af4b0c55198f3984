package machine

import (
	"context"
	"errors"
	"net"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// mostImage bounds what a machine's engine gives as one image of a snapshot, in bytes. Whoever is
// root in a machine may give one without end.
const mostImage = 64 << 30

// Save keeps the snapshot of a workspace with the engine that pulls for the machines: it outlives
// the machine, and other machines begin with it. A machine that sleeps is woken for it, and sleeps
// again afterwards.
func (s *Site) Save(ctx context.Context, workspace, snapshot string, progress func(string)) (saved site.Saved, err error) {
	images, err := s.images()
	if err != nil {
		return saved, err
	}
	m, found, err := s.o.Maker.Find(ctx, workspace)
	if err == nil && !found {
		err = fault.New("workspace-gone", "provision the workspace again", "the workspace's machine is gone from the site")
	}
	if err != nil {
		return saved, err
	}
	if m.State != Running {
		defer s.asleepAgain(ctx, m, &err)
	}
	e, err := s.awake(ctx, workspace)
	if err != nil {
		return saved, err
	}
	most, err := roomFor(ctx, images)
	if err != nil {
		return saved, err
	}
	saved, err = images.SaveLayers(ctx, engine.Layers{From: e, Folder: s.o.Folder, Most: most, Dial: func(ctx context.Context) (net.Conn, error) { return s.o.Maker.Dial(ctx, workspace, channel.ToLayer) }}, workspace, snapshot, progress)
	if !errors.Is(err, engine.ErrNotHere) {
		return saved, err
	}
	// What it was made from is gone here: all of it is brought.
	if saved, err = e.Save(ctx, workspace, snapshot, progress); err != nil {
		return saved, err
	}
	if err := s.takeIn(ctx, images, most, workspace, snapshot, saved, progress); err != nil {
		return saved, errors.Join(err, images.RemoveSaved(context.WithoutCancel(ctx), snapshot))
	}
	return saved, e.RemoveSaved(ctx, snapshot)
}

// asleepAgain has a machine sleep that was woken for a moment; what it was known as, it stays. It
// adds to err what goes wrong.
func (s *Site) asleepAgain(ctx context.Context, m Machine, err *error) {
	stopped := context.WithoutCancel(ctx)
	*err = errors.Join(*err, s.Stop(stopped, m.ID, 0, true), s.marked(stopped, m.ID, readMark(m).Running))
}

// takeIn takes the images of a snapshot out of a machine. Their sizes are then those that the
// engine which has them tells, not the machine.
func (s *Site) takeIn(ctx context.Context, images *engine.Site, most int64, workspace, snapshot string, saved site.Saved, progress func(string)) error {
	from, err := s.newEngine("the machine of "+workspace, func(ctx context.Context) (net.Conn, error) {
		conn, err := s.o.Maker.Dial(ctx, workspace, channel.ToEngine)
		if err != nil {
			return nil, err
		}
		return &bounded{Conn: conn, most: most}, nil
	}, nil)
	if err != nil {
		return err
	}
	defer from.Close()
	return images.TakeIn(ctx, from, snapshot, saved, progress)
}

// roomFor is how large one image of a snapshot may be, in bytes.
func roomFor(ctx context.Context, images *engine.Site) (int64, error) {
	free, known, err := images.Free(ctx)
	if err != nil || !known {
		return mostImage, err
	}
	return min(mostImage, free/shareOfDisk), nil
}

// shareOfDisk is the part of what is free of the disk that one image of a snapshot takes at most.
const shareOfDisk = 2

// RemoveSaved removes a snapshot that was kept.
func (s *Site) RemoveSaved(ctx context.Context, snapshot string) error {
	images, err := s.images()
	if err != nil {
		return err
	}
	return images.RemoveSaved(ctx, snapshot)
}
