package run

import (
	"context"
	"fmt"
	"time"

	"domicile/internal/records"
)

// stopGrace is how long programs have to end when a workspace stops.
const stopGrace = 10 * time.Second

// stopStep stops the workspace, removeStep removes all that was made for it.
var (
	stopStep   = plain((*execution).stop)
	removeStep = plain((*execution).remove)
)

// stop stops the workspace and its helpers. With shutdownAction none the services beside it
// stay (the standard's "shutdownAction").
func (c *execution) stop(ctx context.Context, id string) error {
	if err := c.giveUp(ctx); err != nil {
		return err
	}
	if c.run.Kind != records.KindMove { // which keeps one next
		if err := c.forgetUnready(ctx); err != nil {
			return err
		}
	}
	p, err := planOf(c.workspace)
	services := err != nil || p.Shutdown != "none"
	if err := c.stopHelpers(ctx); err != nil {
		return err
	}
	if c.at.Site != nil {
		if err := c.at.Stop(ctx, id, stopGrace, services); err != nil {
			return err
		}
	}
	if c.run.Kind == records.KindMove { // it is on its way, and can be stopped
		return c.setState(ctx, records.Making, "")
	}
	return c.setState(ctx, records.Stopped, c.run.Note)
}

// removeWhereItWas removes what is at the site that a workspace was just leaving.
func (c *execution) removeWhereItWas(ctx context.Context, id string) error {
	before, err := c.before(ctx)
	if err != nil || before == nil || before.Site == "" || before.Site == c.workspace.Site {
		return err
	}
	if left, err := c.leftAt(ctx, before.Site); err != nil || left {
		return err // what is there is kept when its site answers
	}
	from, err := c.place(before.Site)
	if err != nil {
		return err
	}
	snapshot, found, err := c.ofMove(ctx)
	if err != nil {
		return err
	}
	if found {
		if err := c.dropCopy(ctx, from, snapshot); err != nil {
			return err
		}
	}
	return from.Remove(ctx, id)
}

func (c *execution) remove(ctx context.Context, id string) error {
	helpers, err := c.o.Store.Helpers(ctx, c.workspace.ID)
	if err != nil {
		return err
	}
	for _, h := range helpers {
		if err := c.at.Remove(ctx, h.SiteID()); err != nil {
			return fmt.Errorf("remove the helper %s: %w", h.Name, err)
		}
	}
	if c.at.Site != nil {
		if err := c.forgetUnready(ctx); err != nil {
			return err
		}
		if err := c.at.Remove(ctx, id); err != nil {
			return err
		}
	}
	if err := c.removeWhereItWas(ctx, id); err != nil {
		return err
	}
	if c.workspace.Parent != nil {
		if err := c.partFrom(ctx, *c.workspace.Parent); err != nil && ctx.Err() == nil {
			c.log.say("its workspace still knows its name: " + err.Error())
		}
	}
	return c.o.Source.Forget(id)
}
