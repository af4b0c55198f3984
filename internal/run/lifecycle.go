package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/records"

	"golang.org/x/sync/errgroup"
)

// stageStep runs the commands of a lifecycle stage, once for its digest. postStartStep runs
// its own at every start, which a rebuild that leaves the instance is not; postAttachStep at
// each attach.
var (
	stageStep     = step{done: doneBefore, do: noted((*execution).lifecycle)}
	postStartStep = step{
		done: func(ctx context.Context, c *execution, s *records.Step) (bool, error) {
			if c.kind().replaces && c.out.same {
				return doneBefore(ctx, c, s)
			}
			return false, nil
		},
		do: noted((*execution).lifecycle),
	}
	postAttachStep = step{do: func(ctx context.Context, c *execution, s *records.Step) (bool, any, error) {
		return false, nil, c.lifecycle(ctx, s)
	}}
)

// lifecycle runs the commands of a stage in order; the parts of an object at the same
// time. Each is a task of the agent's under a key of this run, so that a worker that
// takes the run over attaches to what runs already instead of running it twice.
func (c *execution) lifecycle(ctx context.Context, s *records.Step) error {
	link, err := c.joined(ctx, c.workspace.SiteID())
	if err != nil {
		return err
	}
	for i, command := range c.commands(s.Name) {
		parts, err := command.Parts()
		if err != nil {
			return err
		}
		var all errgroup.Group // without a context: the others come to their end
		for j, part := range parts {
			all.Go(func() error {
				key := fmt.Sprintf("run-%d/step-%d/%d/%d", c.run.ID, s.Position, i, j)
				return c.part(ctx, link, s.Name, key, command.From, part)
			})
		}
		if err := all.Wait(); err != nil {
			return err
		}
	}
	return nil
}

func (c *execution) commands(stage string) []definition.Command {
	if stage == "postAttachCommand" {
		return c.out.plan.Attached
	}
	for _, s := range c.out.plan.Steps {
		if s.Name == stage {
			return s.Commands
		}
	}
	return nil
}

func (c *execution) part(ctx context.Context, link *agentlink.Link, stage, key, from string, part definition.Part) error {
	shown, prefix := part.Shell, ""
	if part.Args != nil {
		shown = strings.Join(part.Args, " ")
	}
	if part.Name != "" {
		prefix = part.Name + ": "
	}
	if from != "definition" {
		shown += "   (from " + from + ")"
	}
	c.log.say(prefix + "$ " + shown)
	out := c.log.writer(prefix)
	full := &fullWatch{to: out}
	err := link.Task(ctx, wire.TaskRequest{Key: key, Shell: part.Shell, Args: part.Args, Env: c.secretsFor(stage)}, full)
	_ = out.(io.Closer).Close() // writes the last line, if it has no end
	var exit *agentlink.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	what := stage
	if part.Name != "" {
		what += " (" + part.Name + ")"
	}
	if full.seen || c.shortOfDisk(ctx) {
		return fault.Wrap(exit, "command-failed", "make room there: domicile tidy tells what can go; then provision again: it goes on from here",
			"%s failed, and the disk of the site %s is full: %s", what, c.at.name, firstLine(shown))
	}
	return fault.Wrap(exit, "command-failed", "correct the command in the definition, or what it needs; then provision again: it goes on from here",
		"%s failed: %s", what, firstLine(shown))
}

// fullBelow is how much is free of a disk that counts as full, in bytes.
const fullBelow = 64 << 20

// shortOfDisk tells whether the site's disk is full: then a command failed for that, most likely.
func (c *execution) shortOfDisk(ctx context.Context) bool {
	if c.at.can.Measurer == nil {
		return false
	}
	free, known, err := c.at.can.Measurer.Free(ctx)
	return err == nil && known && free < fullBelow
}

// fullWatch notices when a command prints that a disk is full: not every site tells at once what is
// free.
type fullWatch struct {
	to   io.Writer
	seen bool
}

func (w *fullWatch) Write(p []byte) (int, error) {
	w.seen = w.seen || bytes.Contains(p, []byte("No space left on device"))
	return w.to.Write(p)
}

func firstLine(s string) string {
	line, rest, _ := strings.Cut(s, "\n")
	if rest != "" {
		line += " …"
	}
	return line
}
