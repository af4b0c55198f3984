package run

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// What each kind of run makes of a workspace that is asked for it: a person sees that at once.
func TestWhatAWorkspaceIsFromWhenOnARunIsAskedFor(t *testing.T) {
	for name, want := range map[string]string{records.KindProvision: records.Waiting, records.KindPrepare: records.Waiting, records.KindStart: records.Starting, records.KindReturn: records.Making, records.KindStop: records.Stopping,
		records.KindRemove: records.Removing, records.KindRebuild: "", records.KindSnapshot: "", records.KindAttach: ""} {
		k := kindOf(name)
		assert.Equal(t, want, k.begins, name)
		assert.Equal(t, k.plans, k.adapt != nil, "%s: who plans adapts the plan", name)
		assert.Equal(t, name == records.KindStop || name == records.KindRemove, k.interrupts, name)
		assert.Equal(t, name == records.KindRebuild, k.replaces, name)
	}
}

// A rebuild at a site that sets nothing aside has no steps for that: nobody is told of what
// does not happen.
func TestARebuildWhereNothingIsSetAside(t *testing.T) {
	c := &execution{workspace: records.Workspace{}}
	p := &plan.Plan{Steps: []plan.Step{{Name: plan.StepImage}, {Name: plan.StepContainer}, {Name: plan.StepAgent}, {Name: plan.StepReady}}}
	_, err := c.replaceLate(t.Context(), p)
	assert.NoError(t, err)
	for _, s := range p.Steps {
		assert.NotContains(t, []string{plan.StepSetAside, plan.StepCarryOver, plan.StepDropAside}, s.Name)
	}
}
