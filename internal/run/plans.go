package run

import (
	"context"
	"encoding/json"
	"fmt"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// maxPlans bounds how many plans are kept in memory.
const maxPlans = 2000

// keptPlan is a plan in memory: lists of workspaces are asked for often, and a plan is large
// and seldom changed.
type keptPlan struct {
	planned int64 // records.Workspace.Planned
	plan    *plan.Plan
}

// Plans gives the plans of workspaces, by workspace; none for those that have none. They
// are shared: whoever gets them changes nothing in them.
func (r *Runner) Plans(ctx context.Context, list []records.Workspace) (map[int64]*plan.Plan, error) {
	found := make(map[int64]*plan.Plan, len(list))
	var missing []int64
	for _, w := range list {
		switch kept, ok := r.plans.Get(w.ID); {
		case w.Planned == 0:
		case ok && kept.planned == w.Planned:
			found[w.ID] = kept.plan
		default:
			missing = append(missing, w.ID)
		}
	}
	if len(missing) == 0 {
		return found, nil
	}
	read, err := r.o.Store.Plans(ctx, missing)
	if err != nil {
		return nil, err
	}
	for id, of := range read {
		p := &plan.Plan{}
		if err := json.Unmarshal(of.Plan, p); err != nil {
			return nil, fmt.Errorf("read a plan of workspace %d: %w", id, err)
		}
		found[id] = p
		r.plans.Add(id, keptPlan{of.Planned, p})
	}
	return found, nil
}

// PlanOf gives the plan of a workspace that has one; see Plans.
func (r *Runner) PlanOf(ctx context.Context, w records.Workspace) (*plan.Plan, error) {
	found, err := r.Plans(ctx, []records.Workspace{w})
	if err == nil && found[w.ID] == nil {
		err = neverMade(w)
	}
	return found[w.ID], err
}
