package api

import (
	"context"

	"domicile/internal/example"
)

// MakeExample makes the repository that needs no network, once.
func (s *Server) MakeExample(ctx context.Context, _ MakeExampleRequestObject) (MakeExampleResponseObject, error) {
	s.making.Lock()
	defer s.making.Unlock()
	if err := example.Make(ctx, "/", s.o.Example); err != nil {
		return nil, err
	}
	return MakeExample200JSONResponse{Source: s.o.Example}, nil
}
