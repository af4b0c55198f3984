package run

import (
	"context"
	"encoding/json"
	"fmt"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/records"
)

// Reach opens a connection to a ready workspace's agent. An agent that was started from
// outside, and does not know yet how programs run, is told.
func (r *Runner) Reach(ctx context.Context, w records.Workspace) (*agentlink.Link, error) {
	s, err := r.place(w.Site)
	if err != nil {
		return nil, err
	}
	stream, err := s.Connect(ctx, w.SiteID())
	if err != nil {
		return nil, err
	}
	link, err := agentlink.Open(ctx, stream, r.o.Keys.Service())
	if err != nil {
		return nil, err
	}
	hello, err := link.Hello(ctx)
	if err == nil && !hello.Configured {
		err = configureAgain(ctx, link, w)
	}
	if err != nil {
		link.Close()
		return nil, err
	}
	return link, nil
}

func configureAgain(ctx context.Context, link *agentlink.Link, w records.Workspace) error {
	var session wire.Session
	if err := json.Unmarshal(w.Session, &session); err != nil {
		return fmt.Errorf("read the session of %s: %w", w.Name, err)
	}
	_, err := link.Configure(ctx, session)
	return err
}
