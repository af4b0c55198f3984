package run

import (
	"context"
	"fmt"
	"strings"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/drift"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// Drift tells what of a workspace differs from what its definition says now.
func (r *Runner) Drift(ctx context.Context, w records.Workspace) ([]drift.Finding, error) {
	old, err := planOf(w)
	if err != nil {
		return nil, err
	}
	at, err := r.place(w.Site)
	if err != nil {
		return nil, err
	}
	list, err := r.definitionDrift(ctx, w, old)
	if err != nil {
		return nil, err
	}
	there, found, err := at.Find(ctx, w.SiteID())
	if err != nil {
		return nil, err
	}
	switch {
	case !found:
		return append(list, drift.Finding{Kind: "workspace", Name: w.Name, Says: "it was removed from its site from outside", Line: "domicile provision -name " + w.Name + " " + w.Source}), nil
	case there.Digest != old.Container.Digest:
		list = append(list, drift.Finding{Kind: "workspace", Name: w.Name, Says: "what is at its site is not what was made for it"})
	}
	if at.can.Differ == nil {
		return append(list, drift.Finding{Kind: "workspace", Name: w.Name, Says: at.cannot(toTellAdded).Error()}), nil
	}
	added, err := at.can.Differ.Added(ctx, w.SiteID())
	if err != nil {
		return nil, err
	}
	return append(list, drift.Installed(added, r.manualPackages(ctx, w))...), nil
}

// now is what a workspace's definition says at this moment.
type now struct {
	report *definition.Report
	plan   *plan.Plan // nil: it cannot be carried out, and why says so
	why    error
}

// planNow reads the definition as the repository has it now, and plans it as a rebuild
// would: the source in the workspace is its owner's and stays, unless new commits are to
// be brought.
func (r *Runner) planNow(ctx context.Context, w records.Workspace, pull bool) (n now, err error) {
	address, err := source.Parse(w.Source)
	if err != nil {
		return n, err
	}
	checkout, err := r.Fetch(ctx, w.Account, source.Want{Address: address, Ref: w.Ref})
	if err != nil {
		return now{why: err}, nil
	}
	if n.report, err = r.readFor(ctx, checkout, w); err != nil {
		return n, err
	}
	if n.report.HasErrors() {
		n.why = definitionFault(n.report)
		return n, nil
	}
	if !pull {
		checkout.Commit = w.Commit
	}
	in, err := r.input(ctx, w, checkout, n.report)
	if err != nil {
		return now{why: err}, nil
	}
	n.plan, n.why = r.makePlan(ctx, checkout, n.report, in)
	return n, nil
}

// definitionDrift compares with the definition as the repository has it now.
func (r *Runner) definitionDrift(ctx context.Context, w records.Workspace, old *plan.Plan) (list []drift.Finding, err error) {
	n, err := r.planNow(ctx, w, false)
	if err != nil {
		return nil, err
	}
	if n.plan == nil {
		name := w.Source
		if n.report != nil {
			name = n.report.File
		}
		return []drift.Finding{{Kind: "definition", Name: name, Says: "cannot be compared: " + n.why.Error()}}, nil
	}
	if again := changed(old, n.plan); len(again) > 0 { // what comes behind follows from it
		list = append(list, drift.Finding{Kind: "definition", Name: n.report.File, Says: "changed since: " + firstLower(again[0].Title) + " would be done again", Line: "domicile rebuild " + w.Name})
	}
	return list, nil
}

// changed gives the steps of a plan that an earlier one does not have done.
func changed(before, after *plan.Plan) (list []plan.Step) {
	digests := map[string]string{}
	for _, s := range before.Steps {
		digests[s.Name] = s.Digest
	}
	for _, s := range after.Steps {
		if s.Digest != "" && digests[s.Name] != s.Digest {
			list = append(list, s)
		}
	}
	return list
}

func firstLower(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// manualPackages asks a running workspace which Debian packages were asked for by name;
// nil where it cannot say.
func (r *Runner) manualPackages(ctx context.Context, w records.Workspace) []string {
	if w.State != records.Ready {
		return nil
	}
	link, err := r.Reach(ctx, w)
	if err != nil {
		return nil
	}
	defer link.Close()
	var out bounded
	if err := link.Task(ctx, wire.TaskRequest{Key: fmt.Sprintf("drift/%d", time.Now().UnixNano()), Args: []string{"apt-mark", "showmanual"}}, &out); err != nil {
		return nil
	}
	return strings.Fields(out.String())
}
