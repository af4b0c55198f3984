package run

import (
	"context"
	"errors"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// bringSnapshot brings what was kept of the workspace to another site, after what it begins with: the
// image has the same layers. Its owner may remove it meanwhile: then nothing stays there either.
func (c *execution) bringSnapshot(ctx context.Context, to place, s records.Snapshot, images map[string]string) error {
	if err := c.bringImages(ctx, to); err != nil { // a rebuild will want them there, too
		return err
	}
	if err := c.bringKept(ctx, to, images); err != nil {
		return err
	}
	_, err := c.o.Store.Snapshot(ctx, s.ID)
	if !errors.Is(err, records.ErrNotFound) {
		return err
	}
	if to.can.Keeper != nil {
		if err := to.can.Keeper.RemoveSaved(ctx, s.SiteID()); err != nil {
			c.log.say("what was kept of it at " + to.name + " could not be removed: " + err.Error()) // domicile tidy finds it
		}
	}
	return keptIsGone(c.workspace)
}

// keptIsGone is that the owner has removed what a run has kept.
func keptIsGone(w records.Workspace) error {
	return fault.New("no-snapshot", "move it again", "what was kept of %s is gone", w.Name)
}

// bringKept brings the images of a snapshot from the workspace's site to another, unless both keep
// them in the same place.
func (c *execution) bringKept(ctx context.Context, to place, images map[string]string) error {
	var judged []judge.Image
	for _, name := range images {
		i, err := plan.JudgeImage(name, judge.Subject{Images: []string{name}})
		if err != nil {
			return err
		}
		judged = append(judged, i)
	}
	shared, err := to.can.Carrier.SharesStore(ctx, c.at.can.Carrier)
	switch {
	case err != nil:
		return err
	case shared && !to.can.Apart && !c.at.can.Apart: // it would replace itself there
		return fault.New("same-engine", "choose a site with an engine of its own", "the sites %s and %s are one engine", c.at.name, to.name)
	case shared:
		return nil
	}
	c.log.say("bringing what was kept of it")
	return to.can.Carrier.BringMade(ctx, c.at.can.Carrier, judged, func(string) {})
}

// bringImages sees to it that the other site has the images that the workspace and its services
// are made from: what was built is brought, the rest is pulled there.
func (c *execution) bringImages(ctx context.Context, to place) error {
	p := c.out.plan
	names := []string{p.Container.Image}
	for _, v := range p.Services {
		if v.Recipe != nil {
			names = append(names, v.Recipe.Tag())
		} else {
			names = append(names, v.Image)
		}
	}
	for _, name := range names {
		image, err := plan.JudgeImage(name, judge.Subject{Images: p.Made()})
		if err != nil {
			return err
		}
		there, err := to.HasImage(ctx, image)
		switch {
		case err != nil:
			return err
		case there:
		case image.Made():
			c.log.say("bringing the image that it was built as")
			err = to.can.Carrier.BringMade(ctx, c.at.can.Carrier, []judge.Image{image}, func(string) {})
		default:
			_, err = to.EnsureImage(ctx, image, c.log.say)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
