package run

import (
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
	err := link.Task(ctx, wire.TaskRequest{Key: key, Shell: part.Shell, Args: part.Args, Env: c.secretsFor(stage)}, out)
	_ = out.(io.Closer).Close() // writes the last line, if it has no end
	var exit *agentlink.ExitError
	if !errors.As(err, &exit) {
		return err
	}
	what := stage
	if part.Name != "" {
		what += " (" + part.Name + ")"
	}
	return fault.Wrap(exit, "command-failed", "correct the command in the definition, or what it needs; then provision again: it goes on from here",
		"%s failed: %s", what, firstLine(shown))
}

func firstLine(s string) string {
	line, rest, _ := strings.Cut(s, "\n")
	if rest != "" {
		line += " …"
	}
	return line
}
