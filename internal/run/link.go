package run

import (
	"cmp"
	"context"
	"time"

	"domicile/internal/agentlink"
	"domicile/internal/fault"

	"github.com/sethvargo/go-retry"
)

// agentPatience is how long an agent has to answer after its instance was started.
const agentPatience = 30 * time.Second

// lookEvery is how often it is looked whether an instance whose agent does not answer yet
// still runs.
const lookEvery = 100 * time.Millisecond

// joined gives the run's one connection to the agent, and makes it where there is none.
func (c *execution) joined(ctx context.Context, id string) (*agentlink.Link, error) {
	if c.link != nil {
		return c.link, nil
	}
	link, err := c.reach(ctx, id)
	c.link = link
	c.reached = c.reached || err == nil
	return link, err
}

// dropLink ends the connection: the next step makes another.
func (c *execution) dropLink() {
	if c.link != nil {
		c.link.Close()
		c.link = nil
	}
}

// reach connects to an agent that is just being started.
func (c *execution) reach(ctx context.Context, id string) (*agentlink.Link, error) {
	ctx, cancel := context.WithTimeout(ctx, agentPatience)
	defer cancel()
	looked := time.Now()
	for pauses := retry.WithCappedDuration(200*time.Millisecond, retry.NewExponential(5*time.Millisecond)); ; {
		stream, err := c.at.Connect(ctx, id)
		if err == nil {
			var link *agentlink.Link
			if link, err = agentlink.Open(ctx, stream, c.o.Keys.Service()); err == nil {
				return link.Quiet(), nil
			}
		}
		if time.Since(looked) >= lookEvery { // mostly it is only a moment too early
			if err := c.runsStill(ctx, id); err != nil {
				return nil, err
			}
			looked = time.Now()
		}
		wait, _ := pauses.Next()
		pause(ctx, wait)
		if ctx.Err() != nil {
			return nil, err
		}
	}
}

// getUp starts again what ended in the middle of a run, as the run has it by now.
func (c *execution) getUp(ctx context.Context, id string) error {
	c.log.say("the workspace ended, and is started again")
	if len(c.out.plan.Services) > 0 {
		if err := c.services(ctx, id, false); err != nil {
			return err
		}
	}
	if err := c.agent(ctx, id); err != nil {
		return err
	}
	c.fell = false
	return nil
}

// runsStill tells why an agent will not answer: it has ended, or its site is away.
func (c *execution) runsStill(ctx context.Context, id string) error {
	there, found, err := c.at.Find(ctx, id)
	if err == nil && found && !there.Running && (there.Fell || c.reached) { // its engine, or its machine, may have ended
		c.fell = true
		return fault.Transient(nil, "workspace-ended", "look at what was run in it, and at its site", "the workspace ended in the middle of it (%s)", cmp.Or(there.Ended, "its site does not say why"))
	}
	if err == nil && (!found || !there.Running) {
		return fault.New("workspace-ended", "look at the image: it must be able to run programs, and a command of its own must not end",
			"the workspace ended at once (%s)", cmp.Or(there.Ended, "it is gone"))
	}
	if ctx.Err() != nil {
		return nil // it is told who waits
	}
	return err
}
