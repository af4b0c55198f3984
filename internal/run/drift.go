package run

import (
	"context"
	"fmt"
	"strings"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/credential"
	"domicile/internal/drift"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/source"
)

// Drift tells what of a workspace differs from what its definition says now.
func (r *Runner) Drift(ctx context.Context, w records.Workspace) ([]drift.Finding, error) {
	old, err := planOf(w)
	if err != nil {
		return nil, err
	}
	at := r.Site(w.Site)
	if at == nil {
		return nil, fault.New("no-site", "", "the service has no site %q", w.Site)
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
		return append(list, drift.Finding{Kind: "container", Name: w.Name, Says: "its container was removed from outside", Line: "domicile provision -name " + w.Name + " " + w.Source}), nil
	case there.Digest != old.Container.Digest:
		list = append(list, drift.Finding{Kind: "container", Name: w.Name, Says: "its container is not the one that was made for it"})
	}
	added, err := at.Added(ctx, w.SiteID())
	if err != nil {
		return nil, err
	}
	return append(list, drift.Installed(added, r.manualPackages(ctx, w))...), nil
}

// definitionDrift compares with the definition as the repository has it now.
func (r *Runner) definitionDrift(ctx context.Context, w records.Workspace, old *plan.Plan) (list []drift.Finding, err error) {
	address, err := source.Parse(w.Source)
	if err != nil {
		return nil, err
	}
	key := "drift-" + credential.NewName()
	checkout, err := r.o.Source.Fetch(ctx, address, w.Ref, key, func(string) {})
	if err != nil {
		return []drift.Finding{{Kind: "definition", Name: w.Source, Says: "cannot be compared: " + err.Error()}}, nil
	}
	defer func() {
		if err := r.o.Source.Forget(key); err != nil {
			r.o.Log.Warn("forget what was compared", "error", err)
		}
	}()
	report, _, err := ReadDefinition(ctx, checkout, w.File, r.o.Artifacts)
	if err != nil {
		return nil, err
	}
	if report.HasErrors() {
		return []drift.Finding{{Kind: "definition", Name: report.File, Says: "has errors now: " + definitionFault(report).Error()}}, nil
	}
	checkout.Commit = w.Commit // the source in the workspace is its owner's
	now, err := MakePlan(ctx, checkout, report, plan.Input{Name: w.Name, Policy: r.o.Policy})
	if err != nil {
		return []drift.Finding{{Kind: "definition", Name: report.File, Says: "cannot be carried out now: " + err.Error()}}, nil
	}
	before := map[string]string{}
	for _, s := range old.Steps {
		before[s.Name] = s.Digest
	}
	for _, s := range now.Steps {
		if s.Digest != "" && before[s.Name] != s.Digest {
			list = append(list, drift.Finding{Kind: "definition", Name: report.File, Says: "changed since: " + firstLower(s.Title) + " would be done again", Line: "domicile rebuild " + w.Name})
			break // what comes behind follows from it
		}
	}
	return list, nil
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

// Leftovers finds what nothing uses any more at all sites.
func (r *Runner) Leftovers(ctx context.Context) (map[string][]site.Leftover, error) {
	out := map[string][]site.Leftover{}
	for name, at := range r.o.Sites {
		list, err := r.o.Store.WorkspacesAt(ctx, name)
		if err != nil {
			return nil, err
		}
		known := make([]string, 0, len(list))
		for _, w := range list {
			known = append(known, w.SiteID())
		}
		if out[name], err = at.Leftovers(ctx, known); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Tidy removes what nothing uses any more. It looks again first, so that what came into
// use meanwhile stays.
func (r *Runner) Tidy(ctx context.Context) (removed map[string][]site.Leftover, err error) {
	all, err := r.Leftovers(ctx)
	if err != nil {
		return nil, err
	}
	removed = map[string][]site.Leftover{}
	for name, list := range all {
		for _, l := range list {
			if err := r.o.Sites[name].RemoveLeftover(ctx, l); err != nil {
				r.o.Log.Warn("remove a leftover", "site", name, "kind", l.Kind, "name", l.Name, "error", err)
				continue
			}
			removed[name] = append(removed[name], l)
		}
	}
	return removed, nil
}
