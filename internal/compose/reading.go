package compose

import (
	"context"
	"domicile/internal/judge"
	"fmt"
	"io/fs"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/recipe"
)

// Reading is what Compose files say, as plain data: it can be read by another process.
type Reading struct {
	Facts    *definition.ComposeFacts `json:"facts,omitempty"`  // nil: they could not be read
	Places   []Place                  `json:"places,omitempty"` // of the facts' services, in their order
	Problems []definition.Problem     `json:"problems,omitempty"`
	Networks []plan.Network           `json:"networks,omitempty"`
	Services []Service                `json:"services,omitempty"`
	Refused  []Refusal                `json:"refused,omitempty"` // why no services can be made
}

// Place is where something is written.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line"`
}

// Service is a service as a site makes it, and what its image is built from.
type Service struct {
	plan.Service
	Build *definition.Build `json:"build,omitempty"`
}

// Refusal is something that is not carried out.
type Refusal struct {
	Code, Message, Remedy string
}

// Read reads Compose files. It never fails: what is wrong stands in the problems.
func Read(ctx context.Context, files fs.FS, paths []string, environment func(string) (string, bool)) (r Reading) {
	p, problems := Load(ctx, files, paths, environment)
	r.Problems = problems
	if p == nil {
		return r
	}
	r.Problems = append(r.Problems, p.idle()...)
	r.Facts = p.facts()
	for _, s := range r.Facts.Services {
		r.Places = append(r.Places, Place{s.File, s.Line})
	}
	p.plan(&r)
	return r
}

// placed puts the places back into the facts: they are no part of what is told to people.
func (r *Reading) placed() {
	if r.Facts == nil {
		return
	}
	for i := range r.Facts.Services {
		if i < len(r.Places) {
			r.Facts.Services[i].File, r.Facts.Services[i].Line = r.Places[i].File, r.Places[i].Line
		}
	}
}

// Reader reads Compose files for definitions and plans. The zero Reader does so itself.
type Reader struct {
	// Elsewhere reads them where the host's files are not; nil: they are read here. of names
	// the text that they belong to.
	Elsewhere func(ctx context.Context, of string, files fs.FS, paths []string) (Reading, error)
}

func (r Reader) read(ctx context.Context, of string, files fs.FS, paths []string, environment func(string) (string, bool)) Reading {
	if r.Elsewhere == nil || environment != nil { // a person's own machine reads for that person
		return Read(ctx, files, paths, environment)
	}
	out, err := r.Elsewhere(ctx, of, files, paths)
	if err != nil {
		return Reading{Problems: []definition.Problem{{Severity: definition.Error, Code: "bad-compose", File: paths[0], Line: 1, Column: 1, Message: fmt.Sprintf("these Compose files cannot be read: %v", err)}}}
	}
	out.placed()
	return out
}

// Read implements definition.ComposeReader.
func (r Reader) Read(ctx context.Context, files fs.FS, paths []string, environment func(string) (string, bool)) (*definition.ComposeFacts, []definition.Problem) {
	out := r.read(ctx, "", files, paths, environment)
	return out.Facts, out.Problems
}

// Plan gives the services of a definition that was read; of names its text.
func (r Reader) Plan(ctx context.Context, of string, files fs.FS, report *definition.Report) (*plan.Services, error) {
	out := r.read(ctx, of, files, report.Effective.DockerComposeFile, nil)
	for _, p := range out.Problems {
		if p.Severity == definition.Error {
			return nil, fault.New(p.Code, p.Suggestion, "%s", p)
		}
	}
	if len(out.Refused) > 0 {
		list := make(judge.Refusals, len(out.Refused))
		for i, r := range out.Refused {
			list[i] = &fault.Fault{Code: r.Code, Message: r.Message, Remedy: r.Remedy}
		}
		return nil, list
	}
	services := &plan.Services{Networks: out.Networks}
	for _, s := range out.Services {
		if s.Build != nil {
			made, err := recipe.Plain(report, s.Build)
			if err != nil {
				return nil, fmt.Errorf("service %s: %w", s.Name, err)
			}
			s.Recipe, s.Image = made, made.Tag()
		}
		services.All = append(services.All, s.Service)
	}
	return services, nil
}
