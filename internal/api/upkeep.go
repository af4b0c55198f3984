package api

import (
	"cmp"
	"context"
	"slices"

	"domicile/internal/compare"
	"domicile/internal/drift"
	"domicile/internal/site"
)

// GetDrift tells what of a workspace differs from what its definition says now.
func (s *Server) GetDrift(ctx context.Context, q GetDriftRequestObject) (GetDriftResponseObject, error) {
	w, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	list, err := s.o.Runner.Drift(ctx, w)
	return GetDrift200JSONResponse(each(list, func(f drift.Finding) Drift {
		return Drift{Kind: DriftKind(f.Kind), Name: f.Name, Says: f.Says, Line: optional(f.Line)}
	})), err
}

// CompareWorkspaces tells what differs between two workspaces of the account.
func (s *Server) CompareWorkspaces(ctx context.Context, q CompareWorkspacesRequestObject) (CompareWorkspacesResponseObject, error) {
	a, err := s.find(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	b, err := s.find(ctx, q.Params.With)
	if err != nil {
		return nil, err
	}
	c, err := s.o.Runner.Compare(ctx, a, b)
	return CompareWorkspaces200JSONResponse{
		A: Compared{Name: q.Name, Unseen: optional(c.A.Unseen)}, B: Compared{Name: q.Params.With, Unseen: optional(c.B.Unseen)},
		Differences: each(c.Differences, func(d compare.Difference) Difference {
			return Difference{Kind: ComparedKind(d.Kind), Name: d.Name, A: optional(d.A), B: optional(d.B), Why: d.Why}
		}),
		Same: each(c.Same, func(k compare.Kind) ComparedKind { return ComparedKind(k) }),
	}, err
}

// ListLeftovers lists what nothing uses any more.
func (s *Server) ListLeftovers(ctx context.Context, _ ListLeftoversRequestObject) (ListLeftoversResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	all, err := s.o.Runner.Leftovers(ctx)
	return ListLeftovers200JSONResponse(leftovers(all)), err
}

// Tidy removes what nothing uses any more.
func (s *Server) Tidy(ctx context.Context, _ TidyRequestObject) (TidyResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	removed, err := s.o.Runner.Tidy(ctx)
	return Tidy200JSONResponse(leftovers(removed)), err
}

func leftovers(all map[string][]site.Leftover) []Leftover {
	list := []Leftover{}
	for at, some := range all {
		for _, l := range some {
			list = append(list, Leftover{Site: at, Kind: LeftoverKind(l.Kind), Name: l.Name, Bytes: l.Bytes, Why: l.Why})
		}
	}
	slices.SortFunc(list, func(a, b Leftover) int {
		return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	return list
}
