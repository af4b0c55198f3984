package run

import (
	"context"
	"encoding/json"

	"domicile/internal/records"
	"domicile/internal/source"
)

// fetchStep brings the source to the service's host.
var fetchStep = step{
	do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		err := c.fetch(ctx)
		return false, c.out.checkout, err
	},
	restore: restoreCheckout,
}

func restoreCheckout(m *outputs, result json.RawMessage) error {
	return json.Unmarshal(result, &m.checkout)
}

func (c *execution) fetch(ctx context.Context) error {
	address, err := source.Parse(c.workspace.Source)
	if err != nil {
		return err
	}
	c.out.checkout, err = c.Fetch(ctx, c.workspace.Account, source.Want{Address: address, Ref: c.workspace.Ref, Came: c.askedAt(c.run.ID), Say: c.log.say})
	return err
}
