package run

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path"
	"strings"
	"sync"

	"domicile/internal/artifact"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// readStep reads the definition.
var readStep = plain(func(c *execution, ctx context.Context, _ string) error { return c.read(ctx) })

// read reads the definition. It is cheap, and done again where a later step needs it.
func (c *execution) read(ctx context.Context) error {
	report, err := c.readFor(ctx, c.out.checkout, c.workspace)
	if err != nil {
		return err
	}
	if report.Transient != nil {
		return report.Transient
	}
	for _, p := range report.Problems {
		c.log.say(p.String())
	}
	if report.HasErrors() {
		return definitionFault(report)
	}
	c.out.report = report
	c.log.say(fmt.Sprintf("%s, kind %s, digest %.19s", report.File, report.Kind, report.Digest))
	return nil
}

func definitionFault(report *definition.Report) error {
	for _, p := range report.Problems {
		if p.Severity != definition.Error {
			continue
		}
		f := fault.New(p.Code, p.Suggestion, "%s", strings.TrimPrefix(p.String(), "error: "))
		if p.File != "" && f.Remedy == "" {
			f.Remedy = "correct the definition and push it, then provision again; domicile check shows all problems"
		}
		return f
	}
	return nil
}

// readFor reads the definition that a workspace is made from, with its variations.
func (r *Runner) readFor(ctx context.Context, c source.Checkout, w records.Workspace) (*definition.Report, error) {
	variations, err := VariationsOf(w)
	if err != nil {
		return nil, err
	}
	report, _, err := r.ReadDefinition(ctx, c, Reading{File: w.File, Of: w.SiteID(), Variations: variations}, r.o.Artifacts)
	return report, err
}

// Reading says which definition of a checkout is read, and how.
type Reading struct {
	File       string                 // the definition, where there are several
	Of         string                 // the workspace that it is read for, whose ${devcontainerId} it has; empty: none yet
	Variations []definition.Variation // set in it in place of what the file says
}

// ReadDefinition reads the definition of a checkout without leaving its folder. The text
// is that of the definition, where there is one.
func (r *Runner) ReadDefinition(ctx context.Context, c source.Checkout, q Reading, artifacts *artifact.Store) (*definition.Report, []byte, error) {
	root, err := os.OpenRoot(c.Folder)
	if err != nil {
		return nil, nil, fmt.Errorf("open the checkout: %w", err)
	}
	// The report's features are read later through this root, which closes itself when
	// nothing refers to it any more.
	// The service's environment is nobody's laptop: ${localEnv:…} knows nothing of it.
	o := definition.Options{File: q.File, Folder: path.Join("/workspaces", c.Name), Artifacts: artifacts, Images: artifacts, Compose: r.o.Compose, Variations: q.Variations}
	if q.Of != "" {
		o.Labels = map[string]string{"domicile.workspace": q.Of}
		o.Folder = r.o.Source.Own(q.Of, c.Name)
	}
	if c.Keep {
		o.Folder = c.Folder
	}
	if r.o.Definition == nil {
		report := definition.Read(ctx, root.FS(), o)
		return report, report.Source(), nil
	}
	report, err := r.o.Definition(ctx, c.Folder, root.FS(), o)
	switch {
	case ctx.Err() != nil:
		return nil, nil, ctx.Err()
	case err != nil: // it got the better of who read it
		return &definition.Report{Problems: []definition.Problem{{Severity: definition.Error, Code: "not-read", File: cmp.Or(q.File, ".devcontainer"), Message: fmt.Sprintf("this definition cannot be read: %v", err), Suggestion: "make it smaller, and what it names"}}}, nil, nil
	}
	return report, report.Source(), nil
}

// makePlan plans a workspace from a definition that was read.
func (r *Runner) makePlan(ctx context.Context, checkout source.Checkout, report *definition.Report, in plan.Input) (*plan.Plan, error) {
	in.Commit = checkout.Commit
	if report.Kind == definition.KindCompose {
		root, err := os.OpenRoot(checkout.Folder)
		if err != nil {
			return nil, fmt.Errorf("open the checkout: %w", err)
		}
		defer root.Close()
		if in.Services, err = r.o.Compose.Plan(ctx, checkout.Folder, root.FS(), report); err != nil {
			return nil, err
		}
	}
	return plan.Make(report, in)
}

// Refused tells what a provision at a site would refuse of a definition that was read; where the
// plan would choose one, at that which refuses least.
func (r *Runner) Refused(ctx context.Context, c source.Checkout, site string, report *definition.Report) ([]definition.Problem, error) {
	root, err := os.OpenRoot(c.Folder)
	if err != nil {
		return nil, fmt.Errorf("open the checkout: %w", err)
	}
	defer root.Close()
	if site, err = r.siteFor(site); err != nil {
		return nil, err
	}
	services := sync.OnceValues(func() (*plan.Services, error) { return r.o.Compose.Plan(ctx, c.Folder, root.FS(), report) })
	var least []definition.Problem
	for i, name := range r.askedOf(site) {
		here := r.SettingsAt(name)
		if list := plan.Refused(report, services, here.Allow, here.Given, r.host(name), true); i == 0 || len(list) < len(least) {
			least = list
		}
	}
	return least, nil
}
