package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/site"
	"domicile/internal/source"
)

// stopGrace is how long a workspace's programs have to end.
const stopGrace = 10 * time.Second

// made is what the steps of a run made for those that follow.
type made struct {
	checkout source.Checkout
	report   *definition.Report
	plan     *plan.Plan
	image    site.Image
	same     bool // the container stayed as it was
	secrets  map[string]string
}

// restore takes what a step that is done already had made.
func (m *made) restore(s records.Step) error {
	switch s.Name {
	case plan.StepFetch, plan.StepHost:
		return json.Unmarshal(s.Result, &m.checkout)
	case plan.StepImage:
		return json.Unmarshal(s.Result, &m.image)
	}
	return nil
}

// do carries out what the step's name says.
func (c *carriage) do(ctx context.Context, s *records.Step) (skipped bool, result any, err error) {
	id := c.workspace.SiteID()
	switch s.Name {
	case plan.StepFetch:
		err = c.fetch(ctx)
		return false, c.made.checkout, err
	case plan.StepRead:
		return false, nil, c.read(ctx)
	case plan.StepPlan:
		return false, nil, c.makePlan(ctx, s.Position)
	case plan.StepImage:
		if c.made.plan.Container.Saved != "" {
			c.log.say("the state that it begins with has it")
			return true, site.Image{}, nil
		}
		err = c.image(ctx)
		return err == nil && !c.made.image.Fetched, c.made.image, err
	case plan.StepServices:
		return false, nil, c.services(ctx, id, false)
	case plan.StepLate:
		return false, nil, c.services(ctx, id, true)
	case plan.StepPersonal:
		return c.personal(ctx, id, s)
	case plan.StepChecks:
		return false, nil, c.checks(ctx, id)
	case plan.StepVolume:
		return c.volume(ctx, id)
	case plan.StepContainer:
		return c.container(ctx, id)
	case plan.StepAgent:
		return false, nil, c.agent(ctx, id)
	case plan.StepSource:
		return c.source(ctx, id, s)
	case plan.StepReady:
		return false, nil, c.ready(ctx)
	case plan.StepHost:
		err = c.hostCommands(ctx)
		return false, c.made.checkout, err
	case plan.StepJoin:
		return false, nil, c.join(ctx)
	case plan.StepSave:
		return false, nil, c.save(ctx, id)
	case plan.StepClean:
		return false, nil, c.clean(ctx, id)
	case plan.StepStop:
		return false, nil, c.stop(ctx, id)
	case plan.StepRemove:
		return false, nil, c.remove(ctx, id)
	case plan.StepPutBack:
		return false, nil, c.putEarlierBack(ctx, id)
	}
	if slices.Contains(definition.Lifecycle, s.Name) {
		if s.Name == "postStartCommand" && !(c.run.Kind == records.KindRebuild && c.made.same) { // at every start
			return false, nil, c.postStart(ctx, id, s)
		}
		if s.Name == "postAttachCommand" { // at each attach
			return false, nil, c.lifecycle(ctx, id, s)
		}
		return c.once(ctx, s, func() error { return c.lifecycle(ctx, id, s) })
	}
	return false, nil, fmt.Errorf("this version knows no step %q", s.Name)
}

// postStart runs postStartCommand, and notes it for a rebuild that leaves the container.
func (c *carriage) postStart(ctx context.Context, id string, s *records.Step) error {
	if err := c.lifecycle(ctx, id, s); err != nil {
		return err
	}
	return c.write(ctx, func(db records.Queries) error {
		return db.SetDone(ctx, c.workspace.ID, records.Done{Step: s.Name, Digest: s.Digest})
	})
}

// once does work whose result stays, unless it is done already with the same digest.
func (c *carriage) once(ctx context.Context, s *records.Step, work func() error) (skipped bool, result any, err error) {
	done, err := c.o.Store.DoneSteps(ctx, c.workspace.ID)
	if err != nil {
		return false, nil, err
	}
	if done[s.Name].Digest == s.Digest {
		c.log.say("unchanged since it was done; not done again")
		return true, nil, nil
	}
	if err := work(); err != nil {
		return false, nil, err
	}
	return false, nil, c.write(ctx, func(db records.Queries) error {
		return db.SetDone(ctx, c.workspace.ID, records.Done{Step: s.Name, Digest: s.Digest})
	})
}

func (c *carriage) fetch(ctx context.Context) error {
	address, err := source.Parse(c.workspace.Source)
	if err != nil {
		return err
	}
	c.made.checkout, err = c.Fetch(ctx, c.workspace.Account, source.Want{Address: address, Ref: c.workspace.Ref, Came: c.askedAt(c.run.ID), Say: c.log.say})
	return err
}

func (c *carriage) volume(ctx context.Context, id string) (bool, any, error) {
	made, err := c.site.EnsureVolume(ctx, id)
	if err == nil && made && c.made.plan.Container.Saved == "" {
		err = c.write(ctx, func(db records.Queries) error { return db.DropDone(ctx, c.workspace.ID, plan.StepSource) })
	}
	return err == nil && !made, nil, err
}

// agentPatience is how long an agent has to answer after its container was started.
const agentPatience = 30 * time.Second

// lookEvery is how often it is looked whether a container whose agent does not answer yet
// still runs.
const lookEvery = 100 * time.Millisecond

// agent starts the instance, reaches its agent, and tells it how programs run.
func (c *carriage) agent(ctx context.Context, id string) error {
	if err := c.mountedStill(); err != nil {
		return err
	}
	if err := c.site.Start(ctx, id); err != nil {
		return err
	}
	c.openDoor(c.site, c.workspace, c.made.plan)
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
		return fault.New("bad-user", fault.Remedy(err), "%s: %s", c.made.plan.Container.Places.At("RemoteUser", ""), err)
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
	return c.rejoin(ctx, link)
}

// session replaces the variables that needed a running container.
func (c *carriage) session(ctx context.Context, hello wire.HelloReply) (s wire.Session, err error) {
	p := c.made.plan
	s = wire.Session{User: p.Session.User, Folder: p.Session.Folder, Probe: p.Session.Probe, Workspace: c.workspace.Name, Env: map[string]*string{}}
	if s.User == "" && c.made.image.User != "" {
		s.User = c.made.image.User
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

// joined gives the run's one connection to the agent, and makes it where there is none.
func (c *carriage) joined(ctx context.Context, id string) (*agentlink.Link, error) {
	if c.link != nil {
		return c.link, nil
	}
	link, err := c.reach(ctx, id)
	c.link = link
	return link, err
}

// dropLink ends the connection: the next step makes another.
func (c *carriage) dropLink() {
	if c.link != nil {
		c.link.Close()
		c.link = nil
	}
}

// reach connects to an agent that is just being started.
func (c *carriage) reach(ctx context.Context, id string) (*agentlink.Link, error) {
	ctx, cancel := context.WithTimeout(ctx, agentPatience)
	defer cancel()
	looked := time.Now()
	for wait := 5 * time.Millisecond; ; wait = min(wait*2, 200*time.Millisecond) {
		stream, err := c.site.Connect(ctx, id)
		if err == nil {
			var link *agentlink.Link
			if link, err = agentlink.Open(ctx, stream, c.o.Keys.Service()); err == nil {
				return link.Quiet(), nil
			}
		}
		if time.Since(looked) >= lookEvery { // mostly it is only a moment too early
			if err := c.runsStill(ctx, id); err != nil {
				return nil, err
			}
			looked = time.Now()
		}
		pause(ctx, wait)
		if ctx.Err() != nil {
			return nil, err
		}
	}
}

// runsStill tells why an agent will not answer: its container has ended, or its site is away.
func (c *carriage) runsStill(ctx context.Context, id string) error {
	there, found, err := c.site.Find(ctx, id)
	if err == nil && (!found || !there.Running) {
		return fault.New("container-ended", "look at the image: it must be able to run programs, and a command of its own must not end",
			"the workspace's container ended at once (exit status %d)", there.ExitCode)
	}
	if ctx.Err() != nil {
		return nil // it is told who waits
	}
	return err
}

func (c *carriage) ready(ctx context.Context) error {
	if err := c.hasFolder(ctx); err != nil {
		return err
	}
	return c.setState(ctx, records.Ready, "")
}

// hasFolder looks whether the folder is there that the definition says programs start in: in
// another one, they would not find what they look for, and nobody would know why.
func (c *carriage) hasFolder(ctx context.Context) error {
	p := c.made.plan
	place := p.Container.Places.At("WorkspaceFolder", "")
	if p.Session.Folder == "" || !strings.Contains(place, ":") { // the definition says nothing of it
		return nil
	}
	link, err := c.joined(ctx, c.workspace.SiteID())
	if err != nil {
		return err
	}
	err = link.Task(ctx, wire.TaskRequest{Key: fmt.Sprintf("folder-%d", c.run.ID), Args: []string{"/bin/sh", "-c", `test -d "$0"`, p.Session.Folder}}, io.Discard)
	var exit *agentlink.ExitError
	if errors.As(err, &exit) {
		return fault.New("no-folder", "correct workspaceFolder, or make it in onCreateCommand", "%s: there is no folder %s inside, where programs are to start", place, p.Session.Folder)
	}
	return err
}

// stop stops the workspace and its helpers. With shutdownAction none the services beside it
// stay (the standard's "shutdownAction").
func (c *carriage) stop(ctx context.Context, id string) error {
	if err := c.giveUp(ctx); err != nil {
		return err
	}
	p, err := planOf(c.workspace)
	services := err != nil || p.Shutdown != "none"
	if err := c.stopHelpers(ctx); err != nil {
		return err
	}
	if err := c.site.Stop(ctx, id, stopGrace, services); err != nil {
		return err
	}
	return c.setState(ctx, records.Stopped, c.run.Note)
}

func (c *carriage) remove(ctx context.Context, id string) error {
	helpers, err := c.o.Store.Helpers(ctx, c.workspace.ID)
	if err != nil {
		return err
	}
	for _, h := range helpers {
		if err := c.site.Remove(ctx, h.SiteID()); err != nil {
			return fmt.Errorf("remove the helper %s: %w", h.Name, err)
		}
	}
	if err := c.site.Remove(ctx, id); err != nil {
		return err
	}
	return c.o.Source.Forget(id)
}
