package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
)

// subject is for whom the parts of the plan are judged before they go to the site, and what
// is that one's own, by the records.
func (c *execution) subject(ctx context.Context) (judge.Subject, error) {
	w, p := c.workspace, c.out.plan
	here := c.SettingsAt(w.Site)
	s := judge.Subject{Account: w.Account, Workspace: w.SiteID(), Policy: here.Allow, Given: here.Given, Images: p.Made()}
	mounted := w.Mount
	if w.Parent != nil {
		parent, err := c.o.Store.Workspace(ctx, *w.Parent)
		if err != nil {
			return s, fmt.Errorf("look for the helper's workspace: %w", err)
		}
		s.Parent, mounted = parent.SiteID(), mounted || parent.Mount
	}
	if mounted && p.Container.SourceFolder != "" {
		if err := c.mountedStill(); err != nil {
			return s, err
		}
		s.Folder = p.Container.SourceFolder
	}
	if w.BeginsWith == nil {
		return s, nil
	}
	snapshot, err := c.o.Store.Snapshot(ctx, *w.BeginsWith)
	if errors.Is(err, records.ErrNotFound) {
		return s, nil // what came of it is there; it cannot be made anew
	}
	if err != nil {
		return s, fmt.Errorf("look for the snapshot that it begins with: %w", err)
	}
	var images map[string]string
	if len(snapshot.Images) > 0 {
		if err := json.Unmarshal(snapshot.Images, &images); err != nil {
			return s, fmt.Errorf("read the images of the snapshot: %w", err)
		}
	}
	for _, name := range images {
		s.Images = append(s.Images, name)
	}
	return s, nil
}

// networks makes the workspace's own networks.
func (c *execution) networks(ctx context.Context, id string, s judge.Subject) error {
	judged, err := plan.JudgeNetworks(c.out.plan.Networks, s)
	if err != nil {
		return err
	}
	if c.at.can.Beside == nil {
		return nil // a plan with networks of its own was refused
	}
	return c.at.can.Beside.EnsureNetworks(ctx, id, judged)
}
