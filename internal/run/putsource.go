package run

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"
)

// sourceStep puts the source in, unless it is there.
var sourceStep = step{done: sourceStays, do: noted((*execution).source)}

// sourceStays tells that the source is there: a rebuild keeps what was changed in it.
func sourceStays(ctx context.Context, c *execution, s *records.Step) (bool, error) {
	if !c.kind().replaces {
		done, err := doneBefore(ctx, c, s)
		if done && c.workspace.BeginsWith != nil { // it came with what was prepared, for nobody in particular
			link, err := c.joined(ctx, c.workspace.SiteID())
			if err != nil {
				return false, err
			}
			return true, c.author(ctx, link)
		}
		return done, err
	}
	done, err := c.o.Store.DoneSteps(ctx, c.workspace.ID)
	before, there := done[s.Name]
	if err != nil || !there || c.run.Pull && before.Digest != s.Digest {
		return false, err
	}
	c.log.say("the source stays as it is, with what was changed in it")
	return true, c.forgetCheckout()
}

// source puts the source in, or, where a rebuild finds it there, new commits.
func (c *execution) source(ctx context.Context, s *records.Step) error {
	id := c.workspace.SiteID()
	done, err := c.o.Store.DoneSteps(ctx, c.workspace.ID)
	if err != nil {
		return err
	}
	if _, there := done[s.Name]; !there || !c.kind().replaces {
		return c.put(ctx, id)
	}
	if err := c.bringCommits(ctx, id); err != nil {
		return err
	}
	return c.forgetCheckout()
}

// put sends the source through the agent: the same way at every kind of site.
func (c *execution) put(ctx context.Context, id string) error {
	if err := c.needSource(ctx); err != nil {
		return err
	}
	link, err := c.joined(ctx, id)
	if err != nil {
		return err
	}
	r, w := io.Pipe()
	go func() { w.CloseWithError(source.WriteArchive(ctx, c.out.checkout.Folder, w)) }()
	defer r.Close()
	if err := link.Put(ctx, c.out.plan.Container.SourceTarget, r); err != nil {
		return err
	}
	if err := c.author(ctx, link); err != nil {
		return err
	}
	return c.forgetCheckout()
}

// author tells git inside, for this clone, whose commits are made there. Where there is no
// git inside, nobody commits there.
func (c *execution) author(ctx context.Context, link *agentlink.Link) error {
	account, err := c.o.Store.AccountByID(ctx, c.workspace.Account)
	if err != nil || c.out.checkout.Keep || c.kind().impersonal {
		return err
	}
	for name, value := range map[string]string{"user.name": account.AuthorName, "user.email": account.AuthorMail} {
		if value == "" {
			continue
		}
		args := []string{"git", "-C", c.out.plan.Container.SourceTarget, "config", name, value}
		if err := link.Task(ctx, wire.TaskRequest{Key: fmt.Sprintf("run-%d/%s/%d", c.run.ID, name, time.Now().UnixNano()), Args: args}, io.Discard); err != nil {
			c.log.say(fmt.Sprintf("%s was not set for the clone: %v", name, err))
		}
	}
	return nil
}

// mountedFolder is the folder of the host that the workspace has in place of a clone, and
// whose it is; nil where it has a clone.
func mountedFolder(w records.Workspace, checkout source.Checkout) (*plan.Folder, error) {
	if !w.Mount {
		return nil, nil
	}
	info, err := os.Stat(checkout.Folder)
	if err != nil {
		return nil, fmt.Errorf("look at the folder: %w", err)
	}
	owner, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return nil, fault.New("folder-not-allowed", "", "the owner of %s cannot be told", checkout.Folder)
	}
	return &plan.Folder{Path: checkout.Folder, UID: int(owner.Uid), GID: int(owner.Gid)}, nil
}

// mountedStill refuses to start a workspace whose folder is no longer the one that was
// allowed: a link may have taken its place.
func (c *execution) mountedStill() error {
	folder := c.out.plan.Container.SourceFolder
	if folder == "" {
		return nil
	}
	real, err := filepath.EvalSymlinks(folder)
	if err != nil || real != folder || !c.o.Source.Allows(real) {
		return fault.New("folder-not-allowed", "put the folder back, or remove the workspace", "the folder %s is not what it was when the workspace was made", folder)
	}
	return nil
}
