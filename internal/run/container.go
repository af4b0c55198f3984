package run

import (
	"context"
	"encoding/json"
	"fmt"
	"path"

	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// containerStep makes the container.
var containerStep = step{do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
	return c.container(ctx, c.workspace.SiteID())
}}

// container makes the container. Where there is none, what was done inside an earlier one
// is gone; that is written down before the new one is made.
func (c *execution) container(ctx context.Context, id string) (bool, any, error) {
	if err := c.setAside(ctx, id); err != nil {
		return false, nil, err
	}
	there, found, err := c.at.Find(ctx, id)
	if err != nil {
		return false, nil, err
	}
	same := found && there.Digest == c.out.plan.Container.Digest
	s, err := c.subject(ctx)
	if err != nil {
		return false, nil, err
	}
	judged, err := plan.JudgeContainer(c.out.plan.Container, s)
	if err != nil {
		return false, nil, err
	}
	if err := c.networks(ctx, id, s); err != nil {
		return false, nil, err
	}
	c.out.same = same
	if !same {
		if err := c.startDone(ctx); err != nil {
			return false, nil, err
		}
	}
	if err := c.at.EnsureInstance(ctx, id, judged); err != nil {
		return false, nil, err
	}
	if !same && c.run.Kind == records.KindRebuild {
		if c.at.can.Aside == nil {
			return same, nil, nil
		}
		err = c.at.can.Aside.Carry(ctx, id, c.histories())
	}
	return same, nil, err
}

// startDone notes what is done in a container that is about to be made: nothing inside it,
// or what is done in the snapshot that it begins with.
func (c *execution) startDone(ctx context.Context) error {
	if c.out.plan.Container.Saved == "" || c.workspace.BeginsWith == nil {
		return c.write(ctx, func(db records.Queries) error {
			return db.DropDone(ctx, c.workspace.ID, append([]string{plan.StepPersonal}, definition.Lifecycle...)...)
		})
	}
	snapshot, err := c.o.Store.Snapshot(ctx, *c.workspace.BeginsWith)
	if err != nil {
		return fmt.Errorf("look for the snapshot that it begins with: %w", err)
	}
	var done map[string]string
	if err := json.Unmarshal(snapshot.Done, &done); err != nil {
		return fmt.Errorf("read what is done in the snapshot: %w", err)
	}
	return c.write(ctx, func(db records.Queries) error { return db.ReplaceDone(ctx, c.workspace.ID, done) })
}

// setAside keeps, in a rebuild, the containers that are to be replaced.
func (c *execution) setAside(ctx context.Context, id string) error {
	if c.run.Kind != records.KindRebuild {
		return nil
	}
	p := c.out.plan
	there, found, err := c.at.Find(ctx, id)
	if err != nil {
		return err
	}
	if found && there.Digest != p.Container.Digest {
		c.log.say("the container is replaced: what was written outside the source and the volumes goes with the earlier one")
		if err := c.setState(ctx, records.Making, ""); err != nil {
			return err
		}
	}
	wanted := map[string]string{"": p.Container.Digest}
	for _, v := range p.Services {
		wanted[v.Name] = v.Digest()
	}
	if c.at.can.Aside == nil {
		return nil
	}
	aside, err := c.at.can.Aside.SetAside(ctx, id, wanted)
	if err == nil && aside {
		c.log.say("the earlier containers are kept until the new ones work")
	}
	return err
}

// histories are what a person's shells and programs remember of what was typed.
func (c *execution) histories() (list []string) {
	var session wire.Session
	if json.Unmarshal(c.workspace.Session, &session) != nil || session.Home == "" {
		return nil
	}
	for _, name := range []string{".bash_history", ".zsh_history", ".ash_history", ".sh_history", ".local/share/fish/fish_history", ".python_history", ".node_repl_history", ".psql_history", ".sqlite_history", ".lesshst", ".viminfo"} {
		list = append(list, path.Join(session.Home, name))
	}
	return list
}
