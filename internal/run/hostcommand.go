package run

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/source"
)

// hostCommands runs initializeCommand on the service's host, in the source's folder. Policy
// has allowed it. It may run more than once (the standard's "Lifecycle").
func (c *carriage) hostCommands(ctx context.Context) error {
	// A checkout of its own: what is written here comes into the workspace, not into others.
	address, err := source.Parse(c.workspace.Source)
	if err != nil {
		return err
	}
	if c.made.checkout, err = c.Fetch(ctx, c.workspace.Account, source.Want{Address: address, Ref: c.workspace.Ref, Key: c.workspace.SiteID(), Came: c.askedAt(c.run.ID), Say: c.log.say}); err != nil {
		return err
	}
	for _, command := range c.commands(plan.StepHost) {
		parts, err := command.Parts()
		if err != nil {
			return err
		}
		errs := make([]error, len(parts))
		var all sync.WaitGroup
		for i, part := range parts {
			all.Go(func() { errs[i] = c.hostCommand(ctx, part) })
		}
		all.Wait()
		if err := firstOf(errs); err != nil {
			return err
		}
	}
	return nil
}

func (c *carriage) hostCommand(ctx context.Context, part definition.Part) error {
	args, prefix := part.Args, ""
	if part.Shell != "" {
		args = []string{"/bin/sh", "-c", part.Shell}
	}
	if part.Name != "" {
		prefix = part.Name + ": "
	}
	shown := strings.Join(args, " ")
	if part.Shell != "" {
		shown = part.Shell
	}
	if len(args) == 0 {
		return fault.New("command-failed", "correct it in the definition", "initializeCommand is empty")
	}
	c.log.say(prefix + "$ " + shown)
	out := c.log.writer(prefix)
	defer out.(io.Closer).Close()
	run := exec.CommandContext(ctx, args[0], args[1:]...)
	run.Dir = c.made.checkout.Folder
	// Nothing of the service's own: its environment names databases and tokens.
	run.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + c.made.checkout.Folder, "LANG=C.UTF-8"}
	run.Stdout, run.Stderr = out, out
	run.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	run.Cancel = func() error { return syscall.Kill(-run.Process.Pid, syscall.SIGKILL) }
	err := run.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &exit) || errors.Is(err, exec.ErrNotFound):
		return fault.Wrap(err, "command-failed", "correct the command in the definition, or what it needs on the service's host; then provision again", "initializeCommand failed: %s", firstLine(shown))
	}
	return err
}
