package run

import (
	"context"
	"errors"
	"fmt"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// A kind is a kind of run: what it makes of a workspace, and how it ends. Its list of steps
// is package plan's (plan/runs.go); what each of them does is in the file that is named for it.
type kind struct {
	// begins is what a workspace is from when on such a run is asked for; empty: what it was.
	begins string
	// plans tells that the run begins by making a plan, whose steps are added to its own.
	plans bool
	// adapt makes a definition's plan that of this kind of run, and gives the snapshot that
	// the workspace begins with, where there is one.
	adapt func(c *execution, ctx context.Context, p *plan.Plan) (from *int64, err error)
	// unplanned tells that the run needs no plan of the workspace that can be read.
	unplanned bool
	// interrupts tells that the run ends one that is under way, of helpers too.
	interrupts bool
	// replaces tells that the run replaces a workspace that is there: that is kept until the
	// new one works, and the source stays as it is.
	replaces bool
	// only leaves those steps of a plan that this kind of run carries out; the plan is kept whole.
	// nil: all of them.
	only func(steps []plan.Step) []plan.Step
	// impersonal tells that what the run makes is for nobody in particular.
	impersonal bool
	// succeeded does what is left when all steps are done; nil: nothing. over tells that it has
	// ended the run, too.
	succeeded func(c *execution, ctx context.Context) (over bool, err error)
	// failed ends a run one of whose steps is written down as failed; nil: failedRun.
	// transient tells that trying again may cure it.
	failed func(c *execution, ctx context.Context, s *records.Step, transient bool) error
}

// kindOf gives a kind of run by its name in the records.
func kindOf(name string) kind {
	switch name {
	case records.KindProvision:
		return kind{begins: records.Waiting, plans: true, adapt: (*execution).beginPrepared}
	case records.KindPrepare:
		return kind{begins: records.Waiting, plans: true, adapt: (*execution).onlyAhead, impersonal: true}
	case records.KindKeep:
		return kind{begins: records.Waiting, plans: true, adapt: (*execution).beginPrepared, only: plan.Keep, impersonal: true}
	case records.KindTake:
		return kind{begins: records.Waiting}
	case records.KindRebuild:
		return kind{plans: true, adapt: (*execution).replaceLate, replaces: true, succeeded: (*execution).dropEarlier, failed: (*execution).giveBack}
	case records.KindStart:
		return kind{begins: records.Starting, failed: (*execution).awaitSite}
	case records.KindReturn:
		return kind{begins: records.Making}
	case records.KindStop:
		return kind{begins: records.Stopping, unplanned: true, interrupts: true}
	case records.KindRemove:
		return kind{begins: records.Removing, unplanned: true, interrupts: true, succeeded: (*execution).dropWorkspace}
	case records.KindMove:
		return kind{failed: (*execution).stay}
	case records.KindCopy:
		return kind{failed: (*execution).dropCopies}
	case records.KindAnew:
		return kind{succeeded: (*execution).dropEarlier, failed: (*execution).stayLost}
	case records.KindSnapshot:
		return kind{failed: (*execution).dropUnready}
	}
	return kind{} // attach
}

// kind is that of the run.
func (c *execution) kind() kind { return kindOf(c.run.Kind) }

// beginPrepared lets a workspace begin with what was prepared for its commit.
func (c *execution) beginPrepared(ctx context.Context, p *plan.Plan) (from *int64, err error) {
	if c.workspace.Kind == records.IsHelper {
		return nil, c.help(ctx, p)
	}
	snapshot, err := c.o.Store.PreparedFor(ctx, c.workspace.Account, c.workspace.Site, c.workspace.Source, p.Container.Digest, c.out.checkout.Commit)
	if errors.Is(err, records.ErrNotFound) || c.workspace.Mount {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	images, there, err := c.imagesOf(ctx, snapshot)
	if err != nil || !there {
		return nil, err
	}
	p.From(images)
	p.Container.Prepared = p.Container.Saved != ""
	c.log.say("begins with what was prepared for this commit")
	return &snapshot.ID, nil
}

// onlyAhead leaves what can be done before a person is known.
func (c *execution) onlyAhead(_ context.Context, p *plan.Plan) (*int64, error) {
	p.Steps = plan.Ahead(p.Steps)
	return nil, nil
}

// replaceLate gives the earlier workspace up only for one that works.
func (c *execution) replaceLate(_ context.Context, p *plan.Plan) (*int64, error) {
	p.Steps = plan.Rebuild(p.Steps, c.at.can.Aside != nil)
	return c.workspace.BeginsWith, nil
}

// dropEarlier forgets what the workspace was before.
func (c *execution) dropEarlier(ctx context.Context) (bool, error) {
	return false, c.write(ctx, func(db records.Queries) error { return db.DropEarlier(ctx, c.workspace.ID) })
}

// dropWorkspace forgets the workspace, and with it the run and the copies that were kept by a rule.
func (c *execution) dropWorkspace(ctx context.Context) (bool, error) {
	if err := c.forgetCopies(ctx, func(records.Snapshot) bool { return true }); err != nil {
		return true, err
	}
	return true, c.write(ctx, func(db records.Queries) error { return db.RemoveWorkspace(ctx, c.workspace) })
}

// fail writes down that a step failed, and with it the run and the workspace.
func (c *execution) fail(ctx context.Context, s *records.Step, stepErr error) error {
	s.Over(records.Failed, reasonOf(stepErr))
	s.Code = fault.Code(stepErr)
	if !c.kind().replaces { // else it is written down with the step that puts back
		if err := c.advance(ctx, *s); err != nil {
			return err
		}
	}
	return c.endFailed(ctx, s, fault.IsTransient(stepErr))
}

// endFailed ends a run for a step that failed. A worker that comes later does not know
// whether trying again may cure it.
func (c *execution) endFailed(ctx context.Context, s *records.Step, transient bool) error {
	if failed := c.kind().failed; failed != nil {
		return failed(c, ctx, s, transient)
	}
	return c.failedRun(ctx, s, records.Failed)
}

// failedRun ends a run for a step that failed. A workspace that is ready already stays
// ready, with the reason beside it; another becomes state.
func (c *execution) failedRun(ctx context.Context, s *records.Step, state string) error {
	if c.workspace.State == records.Ready {
		state = records.Ready
	}
	return c.failRun(ctx, state, s.Title+": "+s.Reason)
}

// awaitSite ends a start: where its site is away for longer, the workspace is started when the
// site is back.
func (c *execution) awaitSite(ctx context.Context, s *records.Step, transient bool) error {
	if transient || c.siteAway(ctx) {
		return c.failedRun(ctx, s, records.Lost)
	}
	return c.failedRun(ctx, s, records.Failed)
}

// siteAway tells whether the site does not answer: then a step's error says more of the
// site than of the workspace.
func (c *execution) siteAway(ctx context.Context) bool {
	if c.at.Site == nil {
		return false
	}
	_, _, err := c.at.Find(ctx, c.workspace.SiteID())
	return err != nil && fault.IsTransient(err)
}

// failRun ends the run as failed, and says what becomes of the workspace.
func (c *execution) failRun(ctx context.Context, state, reason string) error {
	c.o.Log.Info("a run failed", "workspace", c.workspace.Name, "run", c.run.ID, "kind", c.run.Kind, "reason", reason)
	if err := c.setState(ctx, state, reason); err != nil {
		return err
	}
	return c.keep(ctx, func() error { return c.o.Store.EndRun(ctx, c.workspace, c.run, records.Failed, reason) })
}

func reasonOf(err error) string {
	if remedy := fault.Remedy(err); remedy != "" {
		return fmt.Sprintf("%v. %s", err, fault.ToDo(remedy))
	}
	return err.Error()
}
