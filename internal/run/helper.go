package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// joinStep puts a helper on its workspace's network.
var joinStep = plain(func(c *execution, ctx context.Context, _ string) error { return c.join(ctx) })

// HelperRequest asks for a helper of a workspace.
type HelperRequest struct {
	Name  string // by which it is reached from inside
	Image string // either an image
	File  string // or a definition in the workspace's repository
	Share bool   // it has the workspace's source
}

// helperSpec is what a helper's record says of it.
type helperSpec struct {
	Name  string `json:"name"`
	Share bool   `json:"share"`
}

// Helper makes the record of a helper and the run that makes it. Its full name is the
// workspace's and its own with a dot between.
func (r *Runner) Helper(ctx context.Context, account int64, of string, q HelperRequest) (records.Workspace, error) {
	if err := CheckName(q.Name); err != nil {
		return records.Workspace{}, err
	}
	if (q.Image == "") == (q.File == "") {
		return records.Workspace{}, fault.New("bad-request", "give -image or -file", "a helper is made either from an image or from a definition of the repository")
	}
	var w records.Workspace
	full := of + "." + q.Name
	err := r.o.Store.InTx(ctx, func(db records.Queries, tx pgx.Tx) error {
		parent, err := db.LockWorkspace(ctx, account, of)
		if err != nil {
			return err
		}
		if parent.Kind != records.IsWorkspace || parent.State != records.Ready {
			return fault.New("not-ready", "start it: domicile start "+of, "the workspace %s is not running", of)
		}
		at, err := r.place(parent.Site)
		if err == nil && at.can.Joiner == nil {
			err = at.cannot(toJoin)
		}
		if err != nil {
			return err
		}
		facts, services, err := parentOf(parent)
		if err != nil {
			return err
		}
		if q.Name == of || slices.Contains(services, q.Name) {
			return fault.New("name-taken", "choose another name for the helper", "%s is the name of the workspace or of a service beside it", q.Name)
		}
		spec, err := json.Marshal(helperSpec{Name: q.Name, Share: q.Share})
		if err != nil {
			return err
		}
		w, err = db.AddWorkspace(ctx, records.Workspace{Account: account, Name: full, Source: parent.Source, Ref: parent.Ref, File: q.File, Site: parent.Site, State: records.Waiting,
			Wanted: records.WantRunning, Kind: records.IsHelper, Parent: &parent.ID, Spec: spec})
		if errors.Is(err, records.ErrTaken) {
			return fault.New("name-taken", "choose another, or remove it: domicile remove "+full, "the workspace %s has a helper %s already", of, q.Name)
		}
		if err != nil {
			return err
		}
		steps := plan.First(w.Source, w.Ref)
		if q.Image != "" {
			p := plan.Helper(q.Name, q.Image, facts, q.Share)
			b, err := json.Marshal(p)
			if err != nil {
				return err
			}
			if err := db.SetPlan(ctx, w.ID, "", b); err != nil {
				return err
			}
			steps = p.Steps
		}
		return r.enqueue(ctx, db, tx, w, records.KindProvision, steps)
	})
	return w, busy(err, full)
}

// parentOf is what a helper must know of its workspace.
func parentOf(w records.Workspace) (facts plan.Parent, services []string, err error) {
	p, err := planOf(w)
	if err != nil {
		return facts, nil, err
	}
	for _, v := range p.Services {
		services = append(services, v.Name)
	}
	return plan.Parent{SiteID: w.SiteID(), Target: p.Container.SourceTarget, Folder: p.Session.Folder, Mount: p.Container.SourceFolder}, services, nil
}

func specOf(w records.Workspace) (s helperSpec, err error) {
	if err := json.Unmarshal(w.Spec, &s); err != nil {
		return s, fmt.Errorf("read what the helper %s is: %w", w.Name, err)
	}
	return s, nil
}

// help makes a definition's plan that of a helper.
func (c *execution) help(ctx context.Context, p *plan.Plan) error {
	if p.Container.Service != nil {
		return fault.New("not-carried-out", "choose a definition with image or build", "a helper is made of one image: the definition is of kind Compose")
	}
	if p.Container.Screen != "" {
		return fault.New("not-carried-out", "choose a definition without one", "a helper has no machine of its own, and so no screen: the definition asks for one (customizations.domicile.screen)")
	}
	spec, err := specOf(c.workspace)
	if err != nil {
		return err
	}
	parent, err := c.o.Store.Workspace(ctx, *c.workspace.Parent)
	if err != nil {
		return err
	}
	facts, _, err := parentOf(parent)
	if err != nil {
		return err
	}
	p.Container.Hostname = spec.Name
	p.Help(facts, spec.Share)
	return nil
}

// join puts a helper on its workspace's network and makes it known there.
func (c *execution) join(ctx context.Context) error {
	parent, err := c.o.Store.Workspace(ctx, *c.workspace.Parent)
	if err != nil {
		return fmt.Errorf("look for the helper's workspace: %w", err)
	}
	link, err := c.Reach(ctx, parent)
	if err != nil {
		return err
	}
	defer link.Close()
	on, err := connect(ctx, c.o.Store.Queries, c.at, parent, &c.workspace)
	if err != nil {
		return err
	}
	if err := c.tellHelpers(ctx, link.Quiet(), parent.SiteID(), on); err != nil {
		return err
	}
	spec, err := specOf(c.workspace)
	c.log.say("from inside " + parent.Name + ": ssh " + spec.Name)
	return err
}

// partFrom has a workspace that runs know its helpers anew, of which one was removed.
func (c *execution) partFrom(ctx context.Context, workspace int64) error {
	parent, err := c.o.Store.Workspace(ctx, workspace)
	if errors.Is(err, records.ErrNotFound) || err == nil && parent.State != records.Ready {
		return nil
	}
	if err != nil {
		return err
	}
	link, err := c.Reach(ctx, parent)
	if err != nil {
		return err
	}
	defer link.Close()
	on, err := connect(ctx, c.o.Store.Queries, c.at, parent, nil)
	if err != nil {
		return err
	}
	return c.tellHelpers(ctx, link.Quiet(), parent.SiteID(), on)
}

// joined are helpers that are on their workspace's network.
type joined struct {
	names     []string
	addresses map[string]string // those that the workspace must be told, by name
}

// connect puts a workspace and its helpers on one network. Those that are not made yet are left
// out, but for the one that joins now.
func connect(ctx context.Context, db records.Queries, at place, parent records.Workspace, joins *records.Workspace) (on joined, err error) {
	list, err := db.Helpers(ctx, parent.ID)
	if err != nil {
		return on, err
	}
	byID := map[string]string{}
	for _, h := range list {
		if h.State != records.Ready && h.State != records.Stopped && (joins == nil || h.ID != joins.ID) {
			continue
		}
		spec, err := specOf(h)
		if err != nil {
			return on, err
		}
		byID[h.SiteID()] = spec.Name
		on.names = append(on.names, spec.Name)
	}
	if len(on.names) == 0 {
		return on, nil
	}
	if at.can.Joiner == nil {
		return on, at.cannot(toJoin)
	}
	on.addresses, err = at.can.Joiner.Join(ctx, parent.SiteID(), parent.Name, byID)
	return on, err
}

// rejoin starts the helpers of a workspace that was started, and puts it on
// their network again.
func (c *execution) rejoin(ctx context.Context, link *agentlink.Link) error {
	if c.workspace.Kind != records.IsWorkspace {
		return nil
	}
	list, err := c.o.Store.Helpers(ctx, c.workspace.ID)
	if err != nil || len(list) == 0 {
		return err
	}
	for _, h := range list {
		if h.State != records.Stopped {
			continue
		}
		if err := c.startHelper(ctx, h); err != nil {
			c.log.say("the helper " + h.Name + " was not started: " + err.Error())
			continue
		}
		if err := c.setHelper(ctx, h, records.WantRunning, records.Ready); err != nil {
			return err
		}
	}
	on, err := connect(ctx, c.o.Store.Queries, c.at, c.workspace, nil)
	if err != nil {
		return err
	}
	return c.tellHelpers(ctx, link, c.workspace.SiteID(), on)
}

// tellHelpers tells a workspace the names of its helpers and the key that they know it by.
func (c *execution) tellHelpers(ctx context.Context, link *agentlink.Link, workspace string, on joined) error {
	_, private, err := c.o.Keys.Guest(workspace)
	if err != nil {
		return err
	}
	return link.Helpers(ctx, on.names, on.addresses, private)
}

// startHelper starts a helper and tells its agent how programs run there.
func (c *execution) startHelper(ctx context.Context, h records.Workspace) error {
	if err := c.at.Start(ctx, h.SiteID()); err != nil {
		return err
	}
	link, err := c.reach(ctx, h.SiteID())
	if err != nil {
		return err
	}
	defer link.Close()
	return configureAgain(ctx, link, h)
}

// stopHelpers stops the helpers of a workspace with it.
func (c *execution) stopHelpers(ctx context.Context) error {
	list, err := c.o.Store.Helpers(ctx, c.workspace.ID)
	if err != nil {
		return err
	}
	for _, h := range list {
		if h.State == records.Waiting || h.State == records.Making { // the run that made it was ended with this stop
			if err := c.write(ctx, func(db records.Queries) error {
				return db.SetWorkspaceState(ctx, h, records.Failed, "its workspace was stopped while it was made; when that runs again: domicile start "+h.Name)
			}); err != nil {
				return err
			}
			continue
		}
		if h.State != records.Ready && h.State != records.Lost {
			continue
		}
		// First the record: else it would be started again as one that stopped by itself.
		if err := c.setHelper(ctx, h, records.WantStopped, records.Stopped); err != nil {
			return err
		}
		if err := c.at.Stop(ctx, h.SiteID(), stopGrace, true); err != nil {
			return fmt.Errorf("stop the helper %s: %w", h.Name, err)
		}
	}
	return nil
}

// setHelper notes how a helper was left with its workspace's run.
func (c *execution) setHelper(ctx context.Context, h records.Workspace, wanted, state string) error {
	return c.write(ctx, func(db records.Queries) error {
		return errors.Join(db.SetWanted(ctx, h.ID, wanted), db.SetWorkspaceState(ctx, h, state, ""))
	})
}

// makeHelperAgain makes the run that makes a helper which could not be made.
func (r *Runner) makeHelperAgain(ctx context.Context, account int64, name string) (records.Workspace, error) {
	return r.request(ctx, account, name, records.KindProvision, records.WantRunning, func(db records.Queries, w records.Workspace) ([]plan.Step, error) {
		if w.State != records.Failed || w.Parent == nil {
			return nil, records.ErrBusy
		}
		parent, err := db.Workspace(ctx, *w.Parent)
		if err != nil {
			return nil, err
		}
		if parent.State != records.Ready {
			return nil, fault.New("not-ready", "start it: domicile start "+parent.Name, "the workspace %s is not running", parent.Name)
		}
		if w.File != "" {
			return plan.First(w.Source, w.Ref), nil
		}
		p, err := planOf(w)
		if err != nil {
			return nil, err
		}
		return p.Steps, nil
	})
}

// HelperName is the name by which a helper is reached from inside.
func HelperName(w records.Workspace) string {
	_, name, _ := strings.Cut(w.Name, ".")
	return name
}
