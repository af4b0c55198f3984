package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"

	"github.com/sethvargo/go-retry"
)

const (
	renewEvery = time.Second     // also how soon a run that was ended from outside is left
	renewLimit = 5 * time.Second // of one renewal
	maxPause   = 15 * time.Second
)

// execution is one worker's carrying-out of one run.
type execution struct {
	*Runner
	run       records.Run
	workspace records.Workspace
	at        place
	steps     []records.Step
	out       outputs
	ended     []records.Step // over, but not written down yet
	log       *logSink
	link      *agentlink.Link // to the agent, from when on a step needs it
	reached   bool            // its agent was reached in this run
	fell      bool            // the workspace ended since then
}

// execute takes the run's lease and carries out what is not done yet.
func (r *Runner) execute(ctx context.Context, id int64) {
	// A second job of the same run comes when the database was gone for a moment and with it
	// the lock by which this instance shows that it lives. The first one goes on.
	if !r.begins(id) {
		return
	}
	defer r.ends(id)
	taken, err := r.take(ctx, id)
	if errors.Is(err, records.ErrLost) {
		return // done already, or another one carries it out
	}
	if err != nil {
		r.o.Log.Warn("take a run", "run", id, "error", err) // it is found again by takeOver
		return
	}
	defer r.leave(ctx, id)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go keepLease(ctx, func(ctx context.Context) error { return r.o.Store.RenewRun(ctx, taken.ID, r.instance.ID) }, cancel)
	c := &execution{Runner: r, run: taken}
	err = c.load(ctx)
	switch {
	case err == nil:
		err = c.carryOut(ctx)
	case ctx.Err() == nil && !records.Unavailable(err) && c.workspace.ID != 0:
		// Trying again would find the same: the record of a site that is gone, say.
		err = c.failRun(ctx, records.Failed, reasonOf(err))
	}
	c.dropLink()
	if c.log != nil {
		c.log.Close()
	}
	switch {
	case err == nil:
	case errors.Is(err, records.ErrLost) || errors.Is(context.Cause(ctx), records.ErrLost):
		r.o.Log.Info("a run was taken away", "run", id)
	default:
		// The service stops, or the database is gone: let another one go on.
		r.o.Log.Warn("a run was interrupted; it goes on later", "run", id, "error", err)
		release, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer done()
		if err := r.o.Store.ReleaseRun(release, taken); err != nil {
			r.o.Log.Warn("release a run", "run", id, "error", err)
		}
	}
}

// begins notes that this process carries a run out; false: it does so already.
func (r *Runner) begins(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.carried[id] {
		return false
	}
	r.carried[id] = true
	return true
}

func (r *Runner) ends(id int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.carried, id)
	r.noticed.Remove(id)
}

// take takes the lease; while somebody is just leaving an earlier run of the same
// workspace it waits.
func (r *Runner) take(ctx context.Context, id int64) (records.Run, error) {
	for {
		taken, err := r.o.Store.TakeRun(ctx, id, r.instance.ID)
		if !errors.Is(err, records.ErrLost) {
			return taken, err
		}
		wait, waitErr := r.o.Store.RunMustWait(ctx, id)
		if waitErr != nil || !wait {
			return taken, errors.Join(err, waitErr)
		}
		pause(ctx, 50*time.Millisecond)
	}
}

func (r *Runner) leave(ctx context.Context, id int64) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := r.o.Store.LeaveRun(ctx, id, r.instance.ID); err != nil {
		r.o.Log.Warn("leave a run", "run", id, "error", err) // its lease runs out
	}
}

// errNotRenewed ends work whose lease could not be renewed: another one may have it by now.
var errNotRenewed = errors.New("its lease could not be renewed in time")

// keepLease renews a lease again and again, and ends the work when it is another's or may be.
func keepLease(ctx context.Context, renew func(context.Context) error, cancel context.CancelCauseFunc) {
	last := time.Now()
	for {
		pause(ctx, renewEvery)
		if ctx.Err() != nil {
			return
		}
		began := time.Now()
		limited, done := context.WithTimeout(ctx, renewLimit)
		err := renew(limited)
		done()
		switch {
		case err == nil:
			last = began
		case errors.Is(err, records.ErrLost):
			cancel(records.ErrLost)
			return
		case time.Since(last) > records.Lease-renewLimit:
			cancel(errNotRenewed)
			return
		}
	}
}

// load reads the workspace and the steps, and what the done ones among them made.
func (c *execution) load(ctx context.Context) (err error) {
	db := c.o.Store
	if c.workspace, err = db.Workspace(ctx, c.run.Workspace); err != nil {
		return err
	}
	if c.steps, err = db.Steps(ctx, c.run.ID); err != nil {
		return err
	}
	if c.workspace.Site != "" { // else its plan chooses one
		if c.at, err = c.place(c.workspace.Site); err != nil {
			return err
		}
	}
	if c.log, err = newLogSink(ctx, db, c.workspace, c.run.ID, c.o.Log); err != nil {
		return err
	}
	for _, s := range c.steps {
		if s.State == records.Succeeded || s.State == records.Skipped {
			if err := c.out.restore(s); err != nil {
				return err
			}
		}
	}
	if err := c.openSecrets(ctx); err != nil {
		return err
	}
	if !c.kind().plans || len(c.workspace.Plan) > 0 {
		c.out.plan, err = planOf(c.workspace)
		if c.kind().unplanned {
			err = nil
		}
	}
	return err
}

func planOf(w records.Workspace) (*plan.Plan, error) {
	if len(w.Plan) == 0 {
		return nil, neverMade(w)
	}
	p := &plan.Plan{}
	if err := json.Unmarshal(w.Plan, p); err != nil {
		return nil, fmt.Errorf("read the plan of %s: %w", w.Name, err)
	}
	return p, nil
}

func neverMade(w records.Workspace) error {
	return fault.New("never-made", "provision it again: domicile provision -name "+w.Name+" "+w.Source, "the workspace %s was never made", w.Name)
}

// carryOut goes through the steps. A step that fails ends the run, which is no error here.
func (c *execution) carryOut(ctx context.Context) error {
	if c.kind().begins == records.Waiting && c.workspace.State != records.Ready {
		if err := c.setState(ctx, records.Making, ""); err != nil {
			return err
		}
	}
	if failed := c.failedStep(); failed != nil {
		return c.endFailed(ctx, failed, false) // an earlier worker did not get to the end of that
	}
	for i := 0; i < len(c.steps); i++ { // the plan step adds to them
		s := &c.steps[i]
		if s.State == records.Succeeded || s.State == records.Skipped {
			continue
		}
		stepErr, err := c.executeStep(ctx, s)
		if err != nil {
			return err
		}
		if stepErr != nil {
			return c.fail(ctx, s, stepErr)
		}
	}
	if err := c.advance(ctx); err != nil {
		return err
	}
	if succeeded := c.kind().succeeded; succeeded != nil {
		if over, err := succeeded(c, ctx); err != nil || over {
			return err
		}
	}
	return c.keep(ctx, func() error { return c.o.Store.EndRun(ctx, c.workspace, c.run, records.Succeeded, "") })
}

// executeStep carries one step out, again and again while its fault may pass. The first
// error is the step's own, the second one keeps the run from going on now.
func (c *execution) executeStep(ctx context.Context, s *records.Step) (stepErr, err error) {
	again := s.State == records.Running // an earlier worker did not get to its end
	now := time.Now()
	if again {
		if err := c.log.restart(ctx, s.Position); err != nil {
			return nil, err
		}
	} else {
		s.Started = &now
	}
	pauses := retry.WithCappedDuration(maxPause, retry.NewExponential(c.o.Pause))
	for try := 1; ; try++ {
		s.State, s.Attempts = records.Running, s.Attempts+1
		if err := c.advance(ctx, *s); err != nil {
			return nil, err
		}
		c.log.begin(s.Position)
		skipped, result, stepErr := c.do(ctx, s)
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if stepErr == nil {
			return nil, c.endStep(s, skipped, result)
		}
		c.log.flush(ctx)
		c.dropLink() // it may be what broke
		if !fault.IsTransient(stepErr) && records.Unavailable(stepErr) && time.Since(now) < keepFor {
			pause(ctx, 200*time.Millisecond) // the database is away: no fault of the step's
			try--
			continue
		}
		if !fault.IsTransient(stepErr) || try >= c.o.Tries {
			return stepErr, nil
		}
		wait, _ := pauses.Next() // which ends never
		s.Reason = fmt.Sprintf("tried again: %v", stepErr)
		c.o.Log.Info("a step is tried again", "workspace", c.workspace.Name, "run", c.run.ID, "step", s.Name, "pause", wait, "error", stepErr)
		c.log.say(fmt.Sprintf("%v; trying again in %s (%d of %d)", stepErr, wait, try+1, c.o.Tries))
		c.log.flush(ctx)
		pause(ctx, wait)
	}
}

// endStep notes that a step is done. It is written down together with the next one's
// beginning, or the run's end, which follow at once.
func (c *execution) endStep(s *records.Step, skipped bool, result any) error {
	b, err := json.Marshal(result)
	if err != nil {
		return fmt.Errorf("keep the result of %s: %w", s.Name, err)
	}
	s.Over(records.Succeeded, s.Reason)
	if skipped {
		s.State = records.Skipped
	}
	s.Result = b
	c.ended = append(c.ended, *s)
	return nil
}
