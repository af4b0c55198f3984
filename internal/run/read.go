package run

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"strings"

	"github.com/jackc/pgx/v5"

	"domicile/internal/artifact"
	"domicile/internal/compose"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// read reads the definition. It is cheap, and done again where a later step needs it.
func (c *carriage) read(ctx context.Context) error {
	report, _, err := ReadDefinition(ctx, c.made.checkout, c.workspace.File, c.o.Artifacts)
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
func ReadDefinition(ctx context.Context, c source.Checkout, file string, artifacts *artifact.Store) (*definition.Report, []byte, error) {
	root, err := os.OpenRoot(c.Folder)
	if err != nil {
		return nil, nil, fmt.Errorf("open the checkout: %w", err)
	}
	// The report's features are read later through this root, which closes itself when
	// nothing refers to it any more.
	// The service's environment is nobody's laptop: ${localEnv:…} knows nothing of it.
	report := definition.Read(ctx, root.FS(), definition.Options{File: file, Folder: path.Join("/workspaces", c.Name), Artifacts: artifacts, Images: artifacts, Compose: compose.Reader{}})
	if report.Text == nil {
		return report, nil, nil
	}
	return report, report.Text.Bytes, nil
}

// MakePlan plans a workspace from a definition that was read.
func MakePlan(ctx context.Context, checkout source.Checkout, report *definition.Report, in plan.Input) (*plan.Plan, error) {
	in.Commit = checkout.Commit
	if report.Kind == definition.KindCompose {
		root, err := os.OpenRoot(checkout.Folder)
		if err != nil {
			return nil, fmt.Errorf("open the checkout: %w", err)
		}
		defer root.Close()
		project, problems := compose.Load(ctx, root.FS(), report.Effective.DockerComposeFile, nil)
		for _, p := range problems {
			return nil, fault.New(p.Code, p.Suggestion, "%s", p)
		}
		if in.Services, err = compose.Services(project, report); err != nil {
			return nil, err
		}
	}
	return plan.Make(report, in)
}

// makePlan plans, and adds the plan's steps to the run. Plan and steps are written
// together, so that a run has either none of them or all.
func (c *carriage) makePlan(ctx context.Context, position int) error {
	if c.made.report == nil {
		if err := c.read(ctx); err != nil {
			return err
		}
	}
	if c.run.Kind == records.KindRebuild && c.workspace.Commit != "" {
		// The source stays as it is, with what was changed in it.
		c.made.checkout.Commit = c.workspace.Commit
	}
	personal, err := c.personalOf(ctx)
	if err != nil {
		return err
	}
	p, err := MakePlan(ctx, c.made.checkout, c.made.report, plan.Input{Name: c.workspace.Name, Policy: c.o.Policy, Personal: personal})
	if err != nil {
		return err
	}
	b, err := json.Marshal(p)
	if err != nil {
		return fmt.Errorf("keep the plan: %w", err)
	}
	err = c.o.Store.InTx(ctx, func(db records.Queries, _ pgx.Tx) error {
		for i, s := range p.Steps {
			if err := db.AddStep(ctx, records.Step{Run: c.run.ID, Position: position + 1 + i, Name: s.Name, Title: s.Title, Digest: s.Digest}); err != nil {
				return err
			}
		}
		return db.SetPlan(ctx, c.workspace.ID, c.made.checkout.Commit, b)
	})
	if err != nil {
		return err
	}
	all, err := c.o.Store.Steps(ctx, c.run.ID)
	if err != nil {
		return err
	}
	c.made.plan = p
	c.steps = append(c.steps[:position+1], all[position+1:]...)
	c.log.say(fmt.Sprintf("%d steps", len(p.Steps)))
	return nil
}
