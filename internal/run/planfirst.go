package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/source"
)

// Planned is a step that would be carried out.
type Planned struct {
	Name, Title string
	There       bool     // what it makes is at the site already
	Millis      int64    // how long it took the last times; 0: not known
	Detail      []string // what it would do, in words
}

// First is what making a workspace would do.
type First struct {
	Site   string // where
	Reason string // why there; empty: it was asked for, or is the only one
	Others []OtherSite
	Size   plan.Size // the zero Size is no limits
	// Granted tells what is allowed because the workspace would have a machine of its own.
	Granted []string
	Steps   []Planned
	// Refused is all that policy does not allow, or is not carried out; then nothing would be
	// made.
	Refused judge.Refusals
}

// PlanFirst plans a workspace of a source that was fetched for an account, and tells what
// is there already. Nothing is made.
func (r *Runner) PlanFirst(ctx context.Context, c source.Checkout, q Request) (first First, err error) {
	report, _, err := r.ReadDefinition(ctx, c, Reading{File: q.File, Variations: q.Variations}, r.o.Artifacts)
	if err != nil {
		return first, err
	}
	if report.HasErrors() {
		return first, definitionFault(report)
	}
	if q.Site, err = r.siteFor(q.Site); err != nil {
		return first, err
	}
	planAt := func(site string) (*plan.Plan, error) {
		in, err := r.input(ctx, records.Workspace{Account: q.Account, Name: c.Name, Size: q.Size, Site: site, Kind: records.IsWorkspace}, c, report)
		if err != nil {
			return nil, err
		}
		return r.makePlan(ctx, c, report, in)
	}
	var p *plan.Plan
	if q.Site == "" {
		var best choice
		best, err = r.choose(ctx, planAt)
		p, q.Site, first.Reason, first.Others = best.plan, best.at.name, best.reason, best.others
	} else {
		p, err = planAt(q.Site)
	}
	if errors.As(err, &first.Refused) {
		return first, nil
	}
	if err != nil {
		return first, err
	}
	first.Site, first.Size, first.Granted = q.Site, p.Size, p.Granted
	millis, err := r.o.Store.StepMillis(ctx, q.Source)
	if err != nil {
		return first, err
	}
	at, err := r.place(q.Site)
	if err != nil {
		return first, err
	}
	prepared := map[string]string{}
	snapshot, err := r.o.Store.PreparedFor(ctx, q.Account, q.Site, q.Source, p.Container.Digest, c.Commit)
	if err == nil {
		err = json.Unmarshal(snapshot.Done, &prepared)
	}
	if err != nil && !errors.Is(err, records.ErrNotFound) {
		return first, err
	}
	for _, s := range append(plan.First(q.Source, ""), p.Steps...) {
		planned := Planned{Name: s.Name, Title: s.Title, Millis: millis[s.Name]}
		if err := planned.describe(ctx, s, p, at); err != nil {
			return first, err
		}
		if snapshot.ID != 0 && (s.Name == plan.StepImage || s.Digest != "" && prepared[s.Name] == s.Digest) {
			planned.There = true
		}
		first.Steps = append(first.Steps, planned)
	}
	return first, nil
}

func (d *Planned) describe(ctx context.Context, s plan.Step, p *plan.Plan, at site.Images) (err error) {
	switch s.Name {
	case plan.StepImage:
		image := p.Container.Image
		if d.There, err = hasImage(ctx, at, p, image); err != nil {
			return err
		}
		if p.Recipe == nil {
			return nil
		}
		if f := p.Recipe.Dockerfile; f != nil {
			d.Detail = append(d.Detail, "build "+f.Path)
		} else {
			d.Detail = append(d.Detail, "begin with "+p.Recipe.Base)
		}
		for _, l := range p.Recipe.Layers {
			d.Detail = append(d.Detail, "install the feature "+l.Title)
		}
	case plan.StepServices, plan.StepLateServices:
		for _, v := range p.Services {
			if v.Late == (s.Name == plan.StepLateServices) {
				d.Detail = append(d.Detail, v.Name+": "+v.Image)
			}
		}
	case plan.StepChecks:
		for _, c := range p.Domicile.Checks {
			d.Detail = append(d.Detail, c.Name)
		}
	}
	for _, c := range s.Commands {
		d.Detail = append(d.Detail, c.Words())
	}
	return nil
}

// Rebuild makes the run that brings a workspace to what its definition says now; with pull
// it brings new commits into its source, too.
func (r *Runner) Rebuild(ctx context.Context, account int64, name string, pull bool) (records.Workspace, error) {
	var w records.Workspace
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		var err error
		if w, err = db.LockWorkspace(ctx, account, name); err != nil {
			return err
		}
		if err := ownOnly(w); err != nil {
			return err
		}
		if pull && (w.Mount || w.Commit == "") {
			return fault.New("not-pulled", "bring them there, or rebuild without -pull", "the source of %s is a folder of the service's host", name)
		}
		if w.State != records.Ready && w.State != records.Failed && w.State != records.Lost {
			if w.State == records.Stopped {
				return fault.New("not-ready", "start it: domicile start "+name, "the workspace %s is stopped", name)
			}
			return records.ErrBusy
		}
		if err := db.SetWanted(ctx, w.ID, records.WantRunning); err != nil {
			return err
		}
		if err := r.enqueue(ctx, db, tx, w, records.KindRebuild, plan.First(w.Source, w.Ref)); err != nil || !pull {
			return err
		}
		return db.PullInRun(ctx, w.ID)
	})
	if errors.Is(err, records.ErrNotFound) {
		return w, fmt.Errorf("rebuild %s: %w", name, err)
	}
	return w, busy(err, name)
}

// ownOnly refuses for helpers what is meant for workspaces: a helper is thrown away and
// made again.
func ownOnly(w records.Workspace) error {
	if w.Kind == records.IsWorkspace {
		return nil
	}
	return fault.New("not-for-helpers", "remove it and make it again: domicile remove "+w.Name, "%s is a helper", w.Name)
}

// hasImage tells whether a site has an image that a plan pulls or builds.
func hasImage(ctx context.Context, at site.Images, p *plan.Plan, name string) (bool, error) {
	image, err := plan.JudgeImage(name, judge.Subject{Images: p.Made()})
	if err != nil {
		return false, err
	}
	return at.HasImage(ctx, image)
}
