package run

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
)

// bringCommits brings the repository's new commits into a workspace's source, where its owner asked
// for it. The git inside does it, as the owner, who knows what it does: it only goes forward,
// and never over changes.
func (c *execution) bringCommits(ctx context.Context, id string) error {
	if err := c.needSource(ctx); err != nil {
		return err
	}
	link, err := c.joined(ctx, id)
	if err != nil {
		return err
	}
	head, err := c.mayPull(ctx, link)
	if err != nil || head == c.out.checkout.Commit {
		return err
	}
	file, done, err := c.o.Source.Bundle(ctx, c.out.checkout, head)
	if err != nil {
		return err
	}
	defer done()
	to := fmt.Sprintf("/tmp/domicile-pull-%d", c.run.ID)
	r, w := io.Pipe()
	defer r.Close()
	go func() { w.CloseWithError(archiveOf(file, w)) }()
	if err := link.Put(ctx, to, r); err != nil {
		return err
	}
	defer func() { _, _ = c.ask(context.WithoutCancel(ctx), link, "rm", "-rf", to) }()
	ref := "HEAD"
	if branch := c.out.checkout.Branch; branch != "" {
		ref = "HEAD:refs/remotes/origin/" + branch
	}
	for _, args := range [][]string{{"fetch", "--quiet", to + "/new.bundle", ref}, {"merge", "--ff-only", "--quiet", c.out.checkout.Commit}} {
		if said, err := c.git(ctx, link, args...); err != nil {
			return notPulled(err, said)
		}
	}
	c.log.say(fmt.Sprintf("the source is at %.12s now, from %.12s", c.out.checkout.Commit, head))
	if _, err := os.Lstat(c.out.checkout.Folder + "/.gitmodules"); err == nil {
		c.log.say("submodules stay as they are; inside: git submodule update --init --recursive")
	}
	return nil
}

// mayPull tells at which commit the source inside is, or why nothing can be brought to it.
func (c *execution) mayPull(ctx context.Context, link *agentlink.Link) (head string, err error) {
	if head, err = c.git(ctx, link, "rev-parse", "HEAD"); err != nil {
		return "", notPulled(err, head)
	}
	if head == c.out.checkout.Commit {
		return head, nil
	}
	if branch := c.out.checkout.Branch; branch != "" {
		at, err := c.git(ctx, link, "rev-parse", "--abbrev-ref", "HEAD")
		if err != nil {
			return "", notPulled(err, at)
		}
		if at != branch {
			return "", fault.New("other-branch", "inside: git switch "+branch+"; or rebuild without -pull", "the branch %s is checked out in the workspace, and new commits are those of %s", firstLine(at), branch)
		}
	}
	changed, err := c.git(ctx, link, "status", "--porcelain", "--untracked-files=no")
	if err != nil {
		return "", notPulled(err, changed)
	}
	if changed != "" {
		return "", fault.New("changed-source", "commit or stash them; or rebuild without -pull", "the source in the workspace has changes, over which no commits are brought: %s", firstLine(changed))
	}
	return head, nil
}

func notPulled(err error, said string) error {
	var exit *agentlink.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	return fault.Wrap(err, "not-pulled", "look inside, or rebuild without -pull", "new commits cannot be brought: git says %q", firstLine(strings.TrimSpace(said)))
}

// git runs git in the workspace's source and gives what it printed.
func (c *execution) git(ctx context.Context, link *agentlink.Link, args ...string) (string, error) {
	return c.ask(ctx, link, append([]string{"git", "-C", c.sourceTarget()}, args...)...)
}

// askLimit is how long a command may take that is no one's but the service's own. What runs
// it is the workspace's, and may never answer.
const askLimit = 5 * time.Minute

// ask runs a short command inside and gives what it printed.
func (c *execution) ask(ctx context.Context, link *agentlink.Link, args ...string) (string, error) {
	limited, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	var out bounded
	err := link.Task(limited, wire.TaskRequest{Key: fmt.Sprintf("run-%d/ask/%d", c.run.ID, time.Now().UnixNano()), Args: args}, &out)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		err = fault.New("not-pulled", "look what it waits for, or rebuild without -pull", "%s did not end inside within %s", args[0], askLimit)
	}
	return strings.TrimSpace(out.String()), err
}

// sourceTarget is where the source is in the workspace that runs.
func (c *execution) sourceTarget() string {
	if c.out.plan != nil {
		return c.out.plan.Container.SourceTarget
	}
	if p, err := planOf(c.workspace); err == nil {
		return p.Container.SourceTarget
	}
	return ""
}

// archiveOf writes an archive with one file in it.
func archiveOf(file string, to io.Writer) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	w := tar.NewWriter(to)
	if err := w.WriteHeader(&tar.Header{Name: info.Name(), Mode: 0o600, Size: info.Size(), Typeflag: tar.TypeReg, ModTime: info.ModTime()}); err != nil {
		return err
	}
	if _, err := io.Copy(w, f); err != nil {
		return err
	}
	return w.Close()
}
