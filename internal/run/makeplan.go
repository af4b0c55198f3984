package run

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/source"
)

// planStep plans, and adds the steps of the plan to the run.
var planStep = step{do: func(ctx context.Context, c *execution, s *records.Step) (bool, any, error) {
	return false, nil, c.makePlan(ctx, s.Position)
}}

// input is what a workspace is planned from beside the definition.
func (r *Runner) input(ctx context.Context, w records.Workspace, checkout source.Checkout, report *definition.Report) (in plan.Input, err error) {
	wanted := ""
	if report.Domicile != nil {
		wanted = report.Domicile.Size
	}
	name, _, _ := strings.Cut(w.Name, "@") // of what is prepared: the rest tells what of
	here := r.SettingsAt(w.Site)
	in = plan.Input{Name: name, Policy: here.Allow, Given: here.Given, Account: w.Account, Host: r.host(w.Site)}
	if w.Planned > 0 {
		in.Host.DiskFree = 0 // it has its place already
	}
	if in.Variations, err = VariationsOf(w); err != nil {
		return in, err
	}
	if in.Size, err = plan.ChooseSize(here.Sizes, w.Size, wanted, here.Size); err != nil {
		return in, err
	}
	if in.Mount, err = mountedFolder(w, checkout); err != nil {
		return in, err
	}
	if in.Mount != nil && w.Planned == 0 && !slices.Contains(here.Allow, judge.AllowHostMounts) {
		return in, mountNotAllowed(w.Source)
	}
	if w.ID == 0 || w.Kind != records.IsWorkspace {
		return in, nil
	}
	account, err := r.o.Store.AccountByID(ctx, w.Account)
	in.Personal = account.Personal
	return in, err
}

// host is what a site was last found to have.
func (r *Runner) host(name string) plan.Host {
	found := r.Examined(name)
	at, known := r.places.find(name)
	if !known { // not known which
		return plan.Host{}
	}
	return plan.Host{Site: name, CPUs: found.Processors, Memory: found.MemoryBytes, DiskFree: found.DiskFreeBytes, GPU: found.GPU, Architecture: site.GoArchitecture(found.Architecture), Devices: found.Devices, Alone: at.can.Apart,
		Lacks: plan.Lacks{Services: at.can.Beside == nil, Doors: at.can.Doors == nil, Screens: at.can.Screens == nil, Folders: found.Elsewhere}}
}

// makePlan plans, and adds the plan's steps to the run. Plan and steps are written
// together, so that a run has either none of them or all.
func (c *execution) makePlan(ctx context.Context, position int) error {
	if c.out.report == nil {
		if err := c.read(ctx); err != nil {
			return err
		}
	}
	if c.run.Pull {
		if err := c.foreseePull(ctx); err != nil {
			return err
		}
	}
	if c.kind().replaces && c.workspace.Commit != "" && !c.run.Pull {
		// The source stays as it is, with what was changed in it.
		c.out.checkout.Commit = c.workspace.Commit
	}
	planAt := func(site string) (*plan.Plan, error) {
		if at, known := c.places.find(site); known && c.run.Kind == records.KindPrepare && at.can.Keeper == nil {
			return nil, at.cannot(toKeepSnapshots) // then nothing can be prepared there
		}
		w := c.workspace
		w.Site = site
		in, err := c.input(ctx, w, c.out.checkout, c.out.report)
		if err != nil {
			return nil, err
		}
		return c.Runner.makePlan(ctx, c.out.checkout, c.out.report, in)
	}
	var p *plan.Plan
	var err error
	if c.workspace.Site == "" {
		best, err := c.choose(ctx, planAt)
		if err != nil {
			return err
		}
		p, c.at, c.workspace.Site = best.plan, best.at, best.at.name
		c.log.say(fmt.Sprintf("at the site %s: %s", best.at.name, best.reason))
		for _, o := range best.others {
			c.log.say(fmt.Sprintf("not at %s: %s", o.Site, o.Why))
		}
	} else if p, err = planAt(c.workspace.Site); err != nil {
		return err
	}
	c.tellMissing(p)
	from, err := c.kind().adapt(c, ctx, p)
	if err != nil {
		return err
	}
	b, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("keep the plan: %w", err)
	}
	steps := p.Steps
	if only := c.kind().only; only != nil {
		steps = only(steps)
	}
	err = c.write(ctx, func(db records.Queries) error {
		if err := db.AddSteps(ctx, c.run.ID, c.workspace.Source, stepsFrom(position+1, steps)); err != nil {
			return err
		}
		if c.kind().replaces {
			if err := db.KeepEarlier(ctx, c.workspace.ID); err != nil {
				return err
			}
		}
		if !c.kind().replaces { // else it runs there already
			if err := c.mayRun(ctx, db, c.workspace.Site, c.workspace.ID); err != nil {
				return err
			}
		}
		if err := db.SetSite(ctx, c.workspace.ID, c.workspace.Site); err != nil {
			return err
		}
		if err := db.SetBeginsWith(ctx, c.workspace.ID, from); err != nil {
			return err
		}
		return db.SetPlan(ctx, c.workspace.ID, c.out.checkout.Commit, b)
	})
	if err != nil {
		return err
	}
	all, err := c.o.Store.Steps(ctx, c.run.ID)
	if err != nil {
		return err
	}
	c.out.plan, c.workspace.BeginsWith = p, from
	c.steps = append(c.steps[:position+1], all[position+1:]...)
	for _, words := range p.Granted {
		c.log.say(words)
	}
	c.log.say(fmt.Sprintf("%d steps", len(steps)))
	return nil
}

// foreseePull refuses to bring new commits before anything is replaced, where the workspace
// can be asked.
func (c *execution) foreseePull(ctx context.Context) error {
	link, err := c.Reach(ctx, c.workspace)
	if err != nil {
		return nil // it does not run: the step that brings them asks
	}
	defer link.Close()
	_, err = c.mayPull(ctx, link)
	return err
}
