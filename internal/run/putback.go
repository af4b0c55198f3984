package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// putBackStep puts back what a rebuild that failed has replaced.
var putBackStep = plain((*execution).putEarlierBack)

// giveBack ends a rebuild one of whose steps failed. That the step failed, and that the
// earlier workspace is to be put back, is written down at the same moment: whoever goes on
// from there, goes on with that.
func (c *execution) giveBack(ctx context.Context, failed *records.Step, _ bool) error {
	before, err := c.before(ctx)
	if err != nil {
		return err
	}
	last := c.steps[len(c.steps)-1]
	switch {
	case before == nil: // nothing was changed yet
		if err := c.advance(ctx, *failed); err != nil {
			return err
		}
		return c.failRun(ctx, c.workspace.State, "the rebuild failed: "+failed.Title+": "+failed.Reason)
	case last.Name != plan.StepPutBack:
		if err := c.advanceWith(ctx, stepsFrom(last.Position+1, plan.PutBack()), *failed); err != nil {
			return err
		}
		if c.steps, err = c.o.Store.Steps(ctx, c.run.ID); err != nil {
			return err
		}
	}
	return c.putBack(ctx, c.failedStep(), before)
}

// failedStep finds the step for which a run is given up.
func (c *execution) failedStep() *records.Step {
	for i := range c.steps {
		if s := &c.steps[i]; s.State == records.Failed && s.Name != plan.StepPutBack {
			return s
		}
	}
	return nil
}

// putBack gives a workspace back what it was before a rebuild that failed, and ends the run.
func (c *execution) putBack(ctx context.Context, failed *records.Step, before *earlier) error {
	s := &c.steps[len(c.steps)-1]
	var stepErr error
	if s.State != records.Succeeded && s.State != records.Failed {
		var err error
		if stepErr, err = c.executeStep(ctx, s); err != nil {
			return err
		}
	}
	if stepErr != nil {
		s.Over(records.Failed, reasonOf(stepErr))
		s.Code = fault.Code(stepErr)
		if err := c.advance(ctx, *s); err != nil {
			return err
		}
	} else if err := c.advance(ctx); err != nil {
		return err
	}
	reason := failed.Title + ": " + failed.Reason
	state, words := before.State, "the rebuild failed, and the workspace is what it was before: "+reason
	switch {
	case s.State == records.Failed && fault.IsTransient(stepErr):
		state, words = records.Lost, words+"; it is started when its site answers"
	case s.State == records.Failed:
		state, words = records.Failed, fmt.Sprintf("the rebuild failed: %s; and the earlier workspace could not be put back: %s", reason, s.Reason)
	case state == records.Lost:
		state = records.Ready
	}
	c.workspace.State, c.workspace.Reason = state, words
	// All at once: there is no moment in which only half of it is so.
	return c.write(ctx, func(db records.Queries) error {
		return errors.Join(db.PutEarlierBack(ctx, c.workspace.ID), db.SetStateByRun(ctx, c.workspace, c.run, state, words), db.EndRun(ctx, c.workspace, c.run, records.Failed, words))
	})
}

// putEarlierBack is the step: what was set aside, then what their programs are told. Done again
// it finds its work done.
func (c *execution) putEarlierBack(ctx context.Context, id string) error {
	before, err := c.before(ctx)
	if err != nil || before == nil {
		return err
	}
	if err := c.bringBack(ctx, id, before); err != nil {
		return err
	}
	return c.configureEarlier(ctx, before)
}

// bringBack puts back what was set aside. A site that sets nothing aside has what was not
// replaced.
func (c *execution) bringBack(ctx context.Context, id string, before *earlier) error {
	if c.at.can.Aside != nil {
		return c.at.can.Aside.PutBack(ctx, id, before.services())
	}
	there, found, err := c.at.Find(ctx, id)
	if err == nil && (!found || there.Digest != before.Plan.Container.Digest) {
		err = c.at.cannot(toSetAside)
	}
	return err
}

// earlier is what a workspace was before a rebuild or a move.
type earlier struct {
	Site    string       `json:"site"`
	State   string       `json:"state"`
	Plan    plan.Plan    `json:"plan"`
	Session wire.Session `json:"session"`
}

// services are the names of the services beside it.
func (e *earlier) services() (names []string) {
	for _, v := range e.Plan.Services {
		names = append(names, v.Name)
	}
	return names
}

// before reads what the workspace was before a rebuild or a move that is not over; nil where there
// is none, or it has changed nothing yet.
func (c *execution) before(ctx context.Context) (*earlier, error) {
	if len(c.workspace.Earlier) == 0 {
		now, err := c.o.Store.Workspace(ctx, c.workspace.ID)
		if err != nil {
			return nil, err
		}
		c.workspace.Earlier = now.Earlier
	}
	if len(c.workspace.Earlier) == 0 {
		return nil, nil
	}
	e := &earlier{}
	if err := json.Unmarshal(c.workspace.Earlier, e); err != nil {
		return nil, fmt.Errorf("read what the workspace was: %w", err)
	}
	return e, nil
}

// giveUp ends, before a workspace stops, a rebuild or a move that was under way: the workspace
// is again what it was before.
func (c *execution) giveUp(ctx context.Context) error {
	before, err := c.before(ctx)
	if err != nil || before == nil {
		return err
	}
	if before.Site != "" && before.Site != c.workspace.Site {
		c.log.say("the move that was under way is given up: the workspace is at " + before.Site)
		return c.comeBack(ctx, before)
	}
	if err := c.bringBack(ctx, c.workspace.SiteID(), before); err != nil {
		return err
	}
	if err := c.write(ctx, func(db records.Queries) error { return db.PutEarlierBack(ctx, c.workspace.ID) }); err != nil {
		return err
	}
	c.log.say("the rebuild that was under way is given up: the workspace is what it was before")
	c.workspace, err = c.o.Store.Workspace(ctx, c.workspace.ID)
	return err
}

func (c *execution) configureEarlier(ctx context.Context, before *earlier) error {
	link, err := c.reach(ctx, c.workspace.SiteID())
	if err != nil {
		return err
	}
	defer link.Close()
	if _, err := link.Configure(ctx, before.Session); err != nil {
		return err
	}
	return c.rejoin(ctx, link)
}
