package run

import (
	"context"
	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/definition"
	"domicile/internal/plan"
	"encoding/json"
	"fmt"
	"slices"
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
		c.endPrograms(ctx, p)
		if err := c.at.Stop(ctx, id, stopGrace, services); err != nil {
			return err
		}
	}
	if c.run.Kind == records.KindMove { // it is on its way, and can be stopped
		return c.setState(ctx, records.Making, "")
	}
	return c.setState(ctx, records.Stopped, c.run.Note)
}

// graceOf is how long the programs of a workspace have to end: what the definition says, or the Compose file of its
// service.
func graceOf(p *plan.Plan) time.Duration {
	if p == nil {
		return stopGrace
	}
	if p.Domicile != nil {
		if d, err := time.ParseDuration(p.Domicile.StopGrace); err == nil {
			return d
		}
	}
	if p.Container.Service != nil && p.Container.Service.Grace > 0 {
		return min(p.Container.Service.Grace, definition.MaxStopGrace)
	}
	return stopGrace
}

// endPrograms asks the programs in the workspace to end, and logs which did not. A workspace that cannot be reached is
// stopped without it.
func (c *execution) endPrograms(ctx context.Context, p *plan.Plan) {
	if at, there, err := c.at.Find(ctx, c.workspace.SiteID()); err != nil || !there || !at.Running {
		if c.run.Kind == records.KindMove {
			c.log.say(notCarried + ": it is stopped; start a workspace before it moves to have them carried over")
		}
		return
	}
	limited, cancel := context.WithTimeout(ctx, reachToEnd)
	link, err := c.Reach(limited, c.workspace)
	cancel()
	if err != nil {
		return
	}
	defer link.Close()
	grace := graceOf(p)
	names, err := link.Quiet().End(ctx, grace)
	if err != nil {
		c.log.say("the programs could not be asked to end: " + err.Error())
		return
	}
	for _, name := range names {
		c.log.say(fmt.Sprintf("did not end within %s of SIGTERM, and is killed: %s", grace, name))
	}
	if c.run.Kind == records.KindMove && p != nil {
		if _, err := link.NoteFiles(ctx, c.carriedFolders(p)); err != nil {
			c.log.say(notCarried + ": " + err.Error())
		}
	}
}

// carriedFolders are those in which people and programs keep files: the source, the volumes and the home folder.
func (c *execution) carriedFolders(p *plan.Plan) []string {
	folders := []string{}
	add := func(folder string) {
		if folder != "" && folder != "/" && !slices.Contains(folders, folder) {
			folders = append(folders, folder)
		}
	}
	add(p.Container.SourceTarget)
	for _, m := range p.Container.Mounts {
		if m.Type == "volume" {
			add(m.Target)
		}
	}
	var session wire.Session
	if json.Unmarshal(c.workspace.Session, &session) == nil {
		add(session.Home)
	}
	return folders
}

// restoreFiles restores what was noted of the files before they moved.
func (c *execution) restoreFiles(ctx context.Context, link *agentlink.Link, p *plan.Plan) {
	answer, err := link.RestoreFiles(ctx, c.carriedFolders(p))
	if err != nil {
		c.log.say("times, attributes and holes of files could not be restored: " + err.Error())
		return
	}
	if answer.Failed > 0 {
		c.log.say(fmt.Sprintf("times, attributes or holes of %d files could not be restored", answer.Failed))
	}
}

// notCarried is what engines lose of files.
const notCarried = "not carried over: fractions of the files' times, times of folders, extended attributes, ACLs and holes"

// reachToEnd is how long the agent of a workspace that stops may take to answer.
const reachToEnd = 5 * time.Second

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
