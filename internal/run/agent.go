package run

import (
	"context"
	"encoding/json"
	"fmt"

	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/records"
)

// agentStep starts the instance and its agent.
var agentStep = plain((*execution).agent)

// agent starts the instance, reaches its agent, and tells it how programs run.
func (c *execution) agent(ctx context.Context, id string) error {
	if err := c.mountedStill(); err != nil {
		return err
	}
	if err := c.at.Start(ctx, id); err != nil {
		return err
	}
	c.dropLink() // it may be one to an agent of before
	link, err := c.joined(ctx, id)
	if err != nil {
		return err
	}
	hello, err := link.Hello(ctx)
	if err != nil {
		return err
	}
	session, err := c.session(ctx, hello)
	if err != nil {
		return err
	}
	answer, err := link.Configure(ctx, session)
	if fault.Code(err) == "bad-user" {
		return fault.New("bad-user", fault.Remedy(err), "%s: %s", c.out.plan.Container.Places.At("RemoteUser", ""), err)
	}
	if err != nil {
		return err
	}
	if answer.Warning != "" {
		c.log.say("warning: " + answer.Warning)
	}
	session.User, session.Home = answer.User, answer.Home
	c.log.say(fmt.Sprintf("agent %s; programs run as %s (%d) in %s", hello.Version, answer.User, answer.UID, session.Folder))
	b, err := json.Marshal(session)
	if err != nil {
		return fmt.Errorf("keep the session: %w", err)
	}
	c.workspace.Session = b
	if err := c.write(ctx, func(db records.Queries) error { return db.SetSession(ctx, c.workspace.ID, b, answer.UID) }); err != nil {
		return err
	}
	if c.run.Kind == records.KindMove {
		c.restoreFiles(ctx, link, c.out.plan)
	}
	select {
	case <-c.openDoor(c.at, c.workspace, c.out.plan):
	case <-ctx.Done():
	}
	return c.rejoin(ctx, link)
}

// session replaces the variables that needed a running workspace.
func (c *execution) session(ctx context.Context, hello wire.HelloReply) (s wire.Session, err error) {
	p := c.out.plan
	s = wire.Session{User: p.Session.User, Folder: p.Session.Folder, Probe: p.Session.Probe, Workspace: c.workspace.Name, Env: map[string]*string{}}
	if s.User == "" && c.out.image.User != "" {
		s.User = c.out.image.User
	}
	for _, m := range p.Container.Mounts {
		if m.Type == "volume" && !m.ReadOnly {
			s.Volumes = append(s.Volumes, m.Target)
		}
	}
	vars := &definition.Variables{ContainerEnvironment: func(name string) (string, bool) {
		value, ok := hello.Environment[name]
		return value, ok
	}}
	for name, value := range p.Session.Env {
		if value != nil {
			value = new(vars.Replace(*value))
		}
		s.Env[name] = value
	}
	if c.workspace.Parent != nil { // whose guests it takes
		parent, err := c.o.Store.Workspace(ctx, *c.workspace.Parent)
		if err != nil {
			return s, fmt.Errorf("look for the helper's workspace: %w", err)
		}
		s.GuestKey, _, err = c.o.Keys.Guest(parent.SiteID())
		return s, err
	}
	return s, nil
}
