package run

import (
	"context"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// volumeStep makes the volume that holds the source.
var volumeStep = step{do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
	return c.volume(ctx, c.workspace.SiteID())
}}

func (c *execution) volume(ctx context.Context, id string) (bool, any, error) {
	made, err := c.at.EnsureVolume(ctx, id)
	if err == nil && made && c.out.plan.Container.Saved == "" {
		err = c.write(ctx, func(db records.Queries) error { return db.DropDone(ctx, c.workspace.ID, plan.StepSource) })
	}
	return err == nil && !made, nil, err
}
