package run

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/handed"
	"domicile/internal/judge"
	"domicile/internal/records"
)

// agentAgain is how long an agent has to answer that was started again.
const agentAgain = 5 * time.Second

// Reach opens a connection to a ready workspace's agent. An agent that was started from
// outside, and does not know yet how programs run, is told. One that is gone while the
// instance runs is started again: where it is not the first process, nothing else does it.
func (r *Runner) Reach(ctx context.Context, w records.Workspace) (*agentlink.Link, error) {
	s, err := r.place(w.Site)
	if err != nil {
		return nil, err
	}
	stream, err := s.Connect(ctx, w.SiteID())
	if err != nil && ctx.Err() == nil {
		stream, err = r.startAgent(ctx, s, w, err)
	}
	if err != nil {
		return nil, err
	}
	link, err := agentlink.Open(ctx, stream, r.o.Keys.Service())
	if err != nil {
		return nil, err
	}
	link.Again = func(ctx context.Context) (net.Conn, error) { return s.Connect(ctx, w.SiteID()) }
	link.Place = func() *handed.Place { return r.handed.Enter(w.ID) }
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

// ReachAs opens a connection to the agent of a workspace whose programs run as another user of its
// container, where the site's policy allows that; "" and the definition's own are the person.
func (r *Runner) ReachAs(ctx context.Context, w records.Workspace, user string) (*agentlink.Link, error) {
	if user == "" {
		return r.Reach(ctx, w)
	}
	p, err := r.PlanOf(ctx, w)
	if err != nil {
		return nil, err
	}
	if user == p.Session.User {
		return r.Reach(ctx, w)
	}
	if s := r.SettingsAt(w.Site); !s.Allow.Allows(judge.AllowOtherUsers) && !s.Given.Allows(judge.AllowOtherUsers) {
		return nil, fault.New("not-allowed-here", "connect without +"+user+", or ask an administrator to allow other-users (domicile serve -allow other-users)",
			"the site %s does not allow people to come into a workspace as another user (%s) than its definition says", w.Site, user)
	}
	link, err := r.Reach(ctx, w)
	if err != nil {
		return nil, err
	}
	if err := link.As(ctx, user); err != nil {
		link.Close()
		return nil, err
	}
	return link, nil
}

// startAgent starts the agent of an instance that runs, once for all who come to it, and
// connects. Where there is nothing to start, the error is the one that came before.
func (r *Runner) startAgent(ctx context.Context, s place, w records.Workspace, before error) (net.Conn, error) {
	_, err, _ := r.starting.Do(w.SiteID(), func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), agentAgain)
		defer cancel()
		there, found, err := s.Find(ctx, w.SiteID())
		if err != nil || !found || !there.Running {
			return nil, before
		}
		if err := s.Start(ctx, w.SiteID()); err != nil {
			return nil, err
		}
		for ctx.Err() == nil {
			stream, err := s.Connect(ctx, w.SiteID())
			if err == nil {
				return nil, stream.Close()
			}
			pause(ctx, lookEvery)
		}
		return nil, before
	})
	if err != nil {
		return nil, before
	}
	return s.Connect(ctx, w.SiteID())
}

func configureAgain(ctx context.Context, link *agentlink.Link, w records.Workspace) error {
	var session wire.Session
	if err := json.Unmarshal(w.Session, &session); err != nil {
		return fmt.Errorf("read the session of %s: %w", w.Name, err)
	}
	_, err := link.Configure(ctx, session)
	return err
}
