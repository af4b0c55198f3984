package run

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"

	"domicile/internal/plan"
	"domicile/internal/records"
)

// maxPlans bounds how many plans are kept in memory.
const maxPlans = 2000

// plans keeps the plans of workspaces in memory: lists are asked for often, and a plan is
// large and seldom changed.
type plans struct {
	mu   sync.Mutex
	kept map[int64]keptPlan // by workspace
}

type keptPlan struct {
	planned int64 // records.Workspace.Planned
	plan    *plan.Plan
}

// Plans gives the plans of workspaces, by workspace; none for those that have none. They
// are shared: whoever gets them changes nothing in them.
func (r *Runner) Plans(ctx context.Context, list []records.Workspace) (map[int64]*plan.Plan, error) {
	found := make(map[int64]*plan.Plan, len(list))
	var missing []int64
	r.plans.mu.Lock()
	for _, w := range list {
		switch kept, ok := r.plans.kept[w.ID]; {
		case w.Planned == 0:
		case ok && kept.planned == w.Planned:
			found[w.ID] = kept.plan
		default:
			missing = append(missing, w.ID)
		}
	}
	r.plans.mu.Unlock()
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
		r.plans.keep(id, keptPlan{of.Planned, p})
	}
	return found, nil
}

func (p *plans) keep(id int64, k keptPlan) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.kept == nil || len(p.kept) >= maxPlans {
		p.kept = map[int64]keptPlan{} // those in use come back soon
	}
	p.kept[id] = k
}

// PlanOf gives the plan of a workspace that has one; see Plans.
func (r *Runner) PlanOf(ctx context.Context, w records.Workspace) (*plan.Plan, error) {
	found, err := r.Plans(ctx, []records.Workspace{w})
	if err == nil && found[w.ID] == nil {
		err = neverMade(w)
	}
	return found[w.ID], err
}
