package run

import (
	"context"
	"encoding/json"
	"fmt"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/source"
)

// outputs are what the steps of a run made for those that follow.
type outputs struct {
	checkout source.Checkout
	report   *definition.Report
	plan     *plan.Plan
	image    site.Image
	same     bool // the instance stayed as it was
	aside    bool // something was set aside
	secrets  map[string]string
}

// A step is how one kind of step of a plan is carried out. Its digest, which tells whether it
// is to be done again, is the plan's.
type step struct {
	// done tells that it was done before, with the same digest; nil: do finds out.
	done func(ctx context.Context, c *execution, s *records.Step) (bool, error)
	// do carries it out. It can be called again after a crash. skipped tells that what was
	// there already is as the step wants it; result is kept for whoever goes on from here.
	do func(ctx context.Context, c *execution, s *records.Step) (skipped bool, result any, err error)
	// restore takes the kept result of a step that is done; nil: it has none.
	restore func(m *outputs, result json.RawMessage) error
}

// steps are all kinds of steps, by their names in plans.
var steps map[string]step

func init() { // a map of functions that look into it
	steps = map[string]step{
		plan.StepFetch: fetchStep, plan.StepRead: readStep, plan.StepPlan: planStep, plan.StepHost: hostStep,
		plan.StepImage: imageStep, plan.StepVolume: volumeStep, plan.StepServices: servicesStep, plan.StepLateServices: lateServicesStep,
		plan.StepContainer: containerStep, plan.StepAgent: agentStep, plan.StepSource: sourceStep, plan.StepReady: readyStep,
		plan.StepChecks: checksStep, plan.StepPersonal: personalStep, plan.StepJoin: joinStep,
		plan.StepKeep: keepStep, plan.StepTake: takeStep, plan.StepSave: saveStep, plan.StepClean: cleanStep,
		plan.StepSetAside: setAsideStep, plan.StepCarryOver: carryOverStep, plan.StepDropAside: dropAsideStep, plan.StepPutBack: putBackStep,
		plan.StepCarry: carryStep, plan.StepGo: goStep, plan.StepLeave: leaveStep, plan.StepCopy: copyStep, plan.StepAnew: anewStep,
		plan.StepStop: stopStep, plan.StepRemove: removeStep,
	}
	for _, stage := range definition.Lifecycle {
		steps[stage] = stageStep
	}
	steps["postStartCommand"], steps["postAttachCommand"] = postStartStep, postAttachStep
}

// plain is a step that has no result and is done each time.
func plain(do func(c *execution, ctx context.Context, id string) error) step {
	return step{do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		return false, nil, do(c, ctx, c.workspace.SiteID())
	}}
}

// restore takes what a step that is done already had made.
func (m *outputs) restore(s records.Step) error {
	if known := steps[s.Name]; known.restore != nil {
		return known.restore(m, s.Result)
	}
	return nil
}

// do carries out what the step's name says, unless it is done.
func (c *execution) do(ctx context.Context, s *records.Step) (skipped bool, result any, err error) {
	ctx = site.Telling(ctx, c.log.say)
	if c.fell {
		if err := c.getUp(ctx, c.workspace.SiteID()); err != nil {
			return false, nil, err
		}
	}
	known, is := steps[s.Name]
	if !is {
		return false, nil, fmt.Errorf("this version knows no step %q", s.Name)
	}
	if known.done != nil {
		if done, err := known.done(ctx, c, s); err != nil || done {
			return done, nil, err
		}
	}
	return known.do(ctx, c, s)
}

// doneBefore tells that a step is noted as done with the same digest.
func doneBefore(ctx context.Context, c *execution, s *records.Step) (bool, error) {
	done, err := c.o.Store.DoneSteps(ctx, c.workspace.ID)
	if err != nil || done[s.Name].Digest != s.Digest {
		return false, err
	}
	c.log.say("unchanged since it was done; not done again")
	return true, nil
}

// noted does work whose result stays in the workspace, and notes that it is done.
func noted(work func(c *execution, ctx context.Context, s *records.Step) error) func(context.Context, *execution, *records.Step) (bool, any, error) {
	return func(ctx context.Context, c *execution, s *records.Step) (bool, any, error) {
		if err := work(c, ctx, s); err != nil {
			return false, nil, err
		}
		if c.at.can.Firmer != nil { // what is noted is there, whatever falls
			if err := c.at.can.Firmer.Firm(ctx, c.workspace.SiteID()); err != nil {
				return false, nil, fault.Transient(err, "machine-ended", "", "the workspace's machine does not keep what was written")
			}
		}
		return false, nil, c.write(ctx, func(db records.Queries) error {
			return db.SetDone(ctx, c.workspace.ID, records.Done{Step: s.Name, Digest: s.Digest})
		})
	}
}
