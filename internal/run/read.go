package run

import (
	"context"
	"fmt"
	"os"
	"path"
	"strings"

	"domicile/internal/artifact"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/source"
)

// read reads the definition. It is cheap, and done again where a later step needs it.
func (c *carriage) read(ctx context.Context) error {
	report, _, err := c.ReadDefinition(ctx, c.made.checkout, c.workspace.File, c.o.Artifacts)
	if err != nil {
		return err
	}
	if report.Passing != nil {
		return report.Passing
	}
	for _, p := range report.Problems {
		c.log.say(p.String())
	}
	if report.HasErrors() {
		return definitionFault(report)
	}
	c.made.report = report
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

// ReadDefinition reads the definition of a checkout without leaving its folder. The text
// is that of the definition, where there is one.
func (r *Runner) ReadDefinition(ctx context.Context, c source.Checkout, file string, artifacts *artifact.Store) (*definition.Report, []byte, error) {
	root, err := os.OpenRoot(c.Folder)
	if err != nil {
		return nil, nil, fmt.Errorf("open the checkout: %w", err)
	}
	// The report's features are read later through this root, which closes itself when
	// nothing refers to it any more.
	// The service's environment is nobody's laptop: ${localEnv:…} knows nothing of it.
	report := definition.Read(ctx, root.FS(), definition.Options{File: file, Folder: path.Join("/workspaces", c.Name), Artifacts: artifacts, Images: artifacts, Compose: r.o.Compose})
	if report.Text == nil {
		return report, nil, nil
	}
	return report, report.Text.Bytes, nil
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
		if in.Services, err = r.o.Compose.Plan(ctx, root.FS(), report); err != nil {
			return nil, err
		}
	}
	return plan.Make(report, in)
}
