package run

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/records"
	"domicile/internal/source"

	"golang.org/x/sync/errgroup"
)

// hostStep runs initializeCommand on the service's host, where policy allows.
var hostStep = step{
	do: func(ctx context.Context, c *execution, _ *records.Step) (bool, any, error) {
		err := c.hostCommands(ctx)
		return false, c.out.checkout, err
	},
	restore: restoreCheckout,
}

// hostCommands runs initializeCommand on the service's host, in the source's folder, at
// each start (the standard's "Lifecycle"). A workspace was planned when policy allowed it;
// that may have changed.
func (c *execution) hostCommands(ctx context.Context) error {
	if !slices.Contains(c.SettingsAt(c.workspace.Site).Allow, judge.AllowHostCommands) {
		return fault.New("not-allowed-here", "take initializeCommand out of the definition and rebuild, or ask an administrator to allow host-commands (domicile serve -allow host-commands)",
			"initializeCommand runs a command on the host itself, which is not allowed here any more")
	}
	if err := c.ownCheckout(ctx); err != nil {
		return err
	}
	for _, command := range c.commands(plan.StepHost) {
		parts, err := command.Parts()
		if err != nil {
			return err
		}
		var all errgroup.Group // without a context: the others come to their end
		for _, part := range parts {
			all.Go(func() error { return c.hostCommand(ctx, part) })
		}
		if err := all.Wait(); err != nil {
			return err
		}
	}
	return nil
}

// ownCheckout brings a checkout that is the workspace's alone: what is written there comes
// into the workspace, not into others. It stays for the starts to come, which need no git
// host then.
func (c *execution) ownCheckout(ctx context.Context) error {
	address, err := source.Parse(c.workspace.Source)
	if err != nil {
		return err
	}
	want := source.Want{Address: address, Ref: c.workspace.Ref, Key: c.workspace.SiteID(), Came: c.askedAt(c.run.ID), Say: c.log.say}
	if !c.kind().plans && address.Folder == "" {
		kept := c.o.Source.Own(want.Key, address.Name())
		if _, err := os.Stat(kept); err == nil {
			c.out.checkout = source.Checkout{Folder: kept, Name: address.Name(), Commit: c.workspace.Commit}
			return nil
		}
		want.Ref = c.workspace.Commit
	}
	c.out.checkout, err = c.Fetch(ctx, c.workspace.Account, want)
	return err
}

// forgetCheckout removes the workspace's own checkout when its source is where it belongs,
// unless initializeCommand runs in it at the next start.
func (c *execution) forgetCheckout() error {
	if len(c.commands(plan.StepHost)) > 0 {
		return nil
	}
	return c.o.Source.Forget(c.workspace.SiteID())
}

func (c *execution) hostCommand(ctx context.Context, part definition.Part) error {
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
	run.Dir = c.out.checkout.Folder
	// Nothing of the service's own: its environment names databases and tokens.
	run.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + c.out.checkout.Folder, "LANG=C.UTF-8"}
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
