package run

import (
	"context"
	"encoding/json"
	"fmt"

	"domicile/internal/definition"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// containerStep makes the workspace's instance.
var containerStep = step{
	do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		err := c.container(ctx, c.workspace.SiteID())
		return c.out.same, c.out.same, err
	},
	restore: func(m *outputs, result json.RawMessage) error { return json.Unmarshal(result, &m.same) },
}

// container makes the instance. Where there is none of the same digest, what was done inside
// an earlier one is gone; that is written down before the new one is made.
func (c *execution) container(ctx context.Context, id string) error {
	there, found, err := c.at.Find(ctx, id)
	if err != nil {
		return err
	}
	same := found && there.Digest == c.out.plan.Container.Digest
	if found && !same {
		if err := c.tellReplaced(ctx); err != nil {
			return err
		}
	}
	s, err := c.subject(ctx)
	if err != nil {
		return err
	}
	judged, err := plan.JudgeContainer(c.out.plan.Container, s)
	if err != nil {
		return err
	}
	if err := c.networks(ctx, id, s); err != nil {
		return err
	}
	c.out.same = same
	if !same {
		if err := c.startDone(ctx); err != nil {
			return err
		}
	}
	err = c.at.EnsureInstance(ctx, id, judged)
	if err != nil && ctx.Err() == nil && c.imageWent(ctx) {
		c.log.say("the image went while the workspace was made, and is brought again")
		if err := c.image(ctx); err != nil {
			return err
		}
		return c.at.EnsureInstance(ctx, id, judged)
	}
	return err
}

// imageWent tells that the image is gone that an earlier step has found: it was used by nobody
// until now.
func (c *execution) imageWent(ctx context.Context) bool {
	if c.out.plan.Container.Saved != "" {
		return false
	}
	there, err := hasImage(ctx, c.at, c.out.plan, c.out.plan.Container.Image)
	return err == nil && !there
}

// startDone notes what is done in an instance that is about to be made: nothing inside it,
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
