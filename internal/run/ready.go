package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/records"
)

// readyStep opens the ways in.
var readyStep = plain(func(c *execution, ctx context.Context, _ string) error { return c.ready(ctx) })

func (c *execution) ready(ctx context.Context) error {
	if err := c.hasFolder(ctx); err != nil {
		return err
	}
	return c.setState(ctx, records.Ready, "")
}

// hasFolder looks whether the folder is there that the definition says programs start in: in
// another one, they would not find what they look for, and nobody would know why.
func (c *execution) hasFolder(ctx context.Context) error {
	p := c.out.plan
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
