package api

import (
	"context"
	"encoding/json"
	"os"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/draft"
	"domicile/internal/run"
	"domicile/internal/source"
)

// withSource fetches a source and lets it be looked at.
func (s *Server) withSource(ctx context.Context, what string, ref *string, look func(source.Checkout) error) error {
	address, err := source.Parse(what)
	if err != nil {
		return err
	}
	checkout, err := s.o.Runner.Fetch(ctx, account(ctx).ID, source.Want{Address: address, Ref: value(ref)})
	if err != nil {
		return err
	}
	return look(checkout)
}

// CheckSource reads the definition of a source.
func (s *Server) CheckSource(ctx context.Context, q CheckSourceRequestObject) (CheckSourceResponseObject, error) {
	var answer CheckSource200JSONResponse
	variations, err := definition.ParseVariations(value(q.Body.Vary))
	if err != nil {
		return nil, err
	}
	err = s.withSource(ctx, q.Body.Source, q.Body.Ref, func(c source.Checkout) error {
		artifacts := *s.o.Artifacts
		artifacts.Offline = value(q.Body.Offline)
		report, text, err := s.o.Runner.ReadDefinition(ctx, c, run.Reading{File: value(q.Body.File), Variations: variations}, &artifacts)
		if err != nil {
			return err
		}
		refused, err := s.o.Runner.Refused(ctx, c, value(q.Body.Site), report)
		if err != nil {
			return err
		}
		report.Problems = append(report.Problems, refused...)
		b, err := json.Marshal(report)
		answer = CheckSource200JSONResponse{Text: string(text), Commit: optional(c.Commit), Report: b}
		return err
	})
	return answer, err
}

// DraftSource looks at a source that has no definition.
func (s *Server) DraftSource(ctx context.Context, q DraftSourceRequestObject) (DraftSourceResponseObject, error) {
	answer := DraftSource200JSONResponse{Seen: []DraftSeen{}, Ways: []DraftWay{}}
	err := s.withSource(ctx, q.Body.Source, q.Body.Ref, func(c source.Checkout) error {
		root, err := os.OpenRoot(c.Folder)
		if err != nil {
			return err
		}
		defer root.Close()
		d, err := draft.Make(root.FS())
		if err != nil {
			return err
		}
		for _, seen := range d.Seen {
			view := DraftSeen{What: seen.What, Value: optional(seen.Value), File: seen.File, Sure: DraftSeenSure(seen.Sure)}
			if seen.Line > 0 {
				view.Line = &seen.Line
			}
			answer.Seen = append(answer.Seen, view)
		}
		for _, w := range d.Ways {
			answer.Ways = append(answer.Ways, DraftWay{Name: w.Name, Why: w.Why, Sure: DraftWaySure(w.Sure), Text: w.Text})
		}
		return nil
	})
	return answer, err
}

// ListTemplatePlaces lists the team's templates. A place that does not answer is told,
// and does not hide the others.
func (s *Server) ListTemplatePlaces(ctx context.Context, _ ListTemplatePlacesRequestObject) (ListTemplatePlacesResponseObject, error) {
	answer := ListTemplatePlaces200JSONResponse{Namespaces: []string{}, Templates: []TemplateEntry{}}
	var problems []string
	for _, namespace := range s.o.Templates {
		answer.Namespaces = append(answer.Namespaces, namespace)
		_, templates, err := s.o.Artifacts.Collection(ctx, namespace)
		if err != nil {
			problems = append(problems, err.Error())
			continue
		}
		for _, t := range templates {
			answer.Templates = append(answer.Templates, TemplateEntry{Reference: namespace + "/" + t.ID, Id: t.ID, Version: t.Version, Name: t.Name, Description: t.Description})
		}
	}
	answer.Problem = optional(strings.Join(problems, "; "))
	return answer, nil
}
