package run

import (
	"context"
	"encoding/json"
	"fmt"

	"domicile/internal/agent/wire"
	"domicile/internal/records"
)

// A rebuild has steps of its own around those that make the new: setAsideStep keeps what is
// replaced, carryOverStep brings over what a person's shells remember, dropAsideStep removes
// what was kept, when the new works. Where it does not, putBackStep puts it back.
var (
	setAsideStep = step{
		do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
			aside, err := c.setAside(ctx, c.workspace.SiteID())
			c.out.aside = aside
			return !aside, aside, err
		},
		restore: func(m *outputs, result json.RawMessage) error { return json.Unmarshal(result, &m.aside) },
	}
	carryOverStep = step{do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		if c.out.same {
			return true, nil, nil
		}
		return false, nil, c.carryOver(ctx, c.workspace.SiteID())
	}}
	dropAsideStep = step{do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		return !c.out.aside, nil, c.dropAside(ctx, c.workspace.SiteID())
	}}
)

// setAside keeps what is to be replaced, and tells whether anything is.
func (c *execution) setAside(ctx context.Context, id string) (bool, error) {
	p := c.out.plan
	there, found, err := c.at.Find(ctx, id)
	if err != nil {
		return false, err
	}
	if found && there.Digest != p.Container.Digest {
		if err := c.tellReplaced(ctx); err != nil {
			return false, err
		}
	}
	wanted := map[string]string{"": p.Container.Digest}
	for _, v := range p.Services {
		wanted[v.Name] = v.Digest()
	}
	aside, err := c.at.can.Aside.SetAside(ctx, id, wanted)
	if err == nil && aside {
		c.log.say("what is replaced is kept until the new works")
	}
	return aside, err
}

// tellReplaced says, in a rebuild, that the workspace is another from now on.
func (c *execution) tellReplaced(ctx context.Context) error {
	if !c.kind().replaces || c.workspace.State == records.Making {
		return nil
	}
	c.log.say("it is made anew: what was written outside the source and the volumes goes with the earlier one")
	return c.setState(ctx, records.Making, "")
}

// carryOver brings over what a person's shells and programs remember of what was typed.
func (c *execution) carryOver(ctx context.Context, id string) error {
	if len(c.workspace.Session) == 0 {
		return nil // it never came so far
	}
	var session wire.Session
	if err := json.Unmarshal(c.workspace.Session, &session); err != nil {
		return fmt.Errorf("read what the workspace's agent was told: %w", err)
	}
	owner := 0
	if c.workspace.UID != nil {
		owner = *c.workspace.UID
	}
	return c.at.can.Aside.Carry(ctx, id, session.Histories(), owner)
}

// dropAside removes what was replaced. From here on there is no way back, which is written
// down first.
func (c *execution) dropAside(ctx context.Context, id string) error {
	if _, err := c.dropEarlier(ctx); err != nil {
		return err
	}
	c.workspace.Earlier = nil
	return c.at.can.Aside.DropAside(ctx, id)
}
