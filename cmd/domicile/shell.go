package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"domicile/internal/agent/wire"
	"domicile/internal/client"
	"domicile/internal/fault"
)

var shellCommand = command{
	name: "shell", args: "NAME [-terminal NAME] [-look | -list]", summary: "Open a terminal in a workspace, come back to one, or look at one",
	example: "domicile shell timetable\ndomicile shell timetable -terminal tests\ndomicile shell timetable~skipper",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		name := f.String("terminal", "", "make the terminal of this name, or come back to it")
		list := f.Bool("list", false, "list the terminals that are open inside")
		only := f.Bool("look", false, "only look at a terminal that is open: the one that -terminal names, or the one that was opened last")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case *list:
				return listTerminals(ctx, t, c, args[0], *asJSON)
			case *only:
				return look(ctx, t, c, args[0], *name)
			}
			err := shell(ctx, t, c, args[0], *name)
			if fault.Code(err) == "only-looks" { // a guest who may do no more
				return look(ctx, t, c, args[0], *name)
			}
			return err
		}
	},
}

func listTerminals(ctx context.Context, t *terminal, c *client.Service, workspace string, asJSON bool) error {
	list, err := client.Answer[[]client.Terminal](c.ListTerminals(ctx, workspace))
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, list)
	}
	if len(list) == 0 {
		fmt.Fprintf(t.out, "No terminal is open in %s.\n", workspace)
		return nil
	}
	table := newTable(t.out)
	table.row("NAME", "RUNS", "ATTACHED", "SINCE")
	for _, x := range list {
		table.row(x.Name, x.Command, fmt.Sprint(x.Attached), ago(x.Started))
	}
	table.flush()
	return nil
}

// comeBackFor is how long a lost connection is tried again.
const comeBackFor = 2 * time.Minute

// shell runs a terminal. When the connection is lost it comes back to a named one, which
// goes on meanwhile; of one without a name it says how.
func shell(ctx context.Context, t *terminal, c *client.Service, workspace, name string) error {
	file, interactive := fileOf(t.in)
	if !interactive {
		return wrongUse("standard input is no terminal; to run one command: domicile run %s -- COMMAND", workspace)
	}
	lost := time.Time{}
	keys := &keyboard{from: file}
	for {
		err := attachTo(ctx, t, c, file, keys, workspace, name, "")
		var exit *ssh.ExitError
		switch {
		case err == nil:
			return nil
		case errors.As(err, &exit):
			return exitStatus(exit.ExitStatus())
		case ctx.Err() != nil:
			return ctx.Err()
		case !broken(err):
			return err
		case name == "":
			return fault.Wrap(err, "connection-lost", "domicile shell "+workspace+" -list shows its terminal, -terminal NAME comes back to it",
				"the connection to %s is lost; what runs there goes on", workspace)
		case lost.IsZero():
			lost = time.Now()
			fmt.Fprintf(t.err, "\r\nThe connection is lost; what runs goes on. Coming back to it …\r\n")
		case time.Since(lost) > comeBackFor:
			return fmt.Errorf("the connection did not come back: %w", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}

// broken tells a lost connection from a refusal.
func broken(err error) bool {
	var missing *ssh.ExitMissingError
	return fault.IsTransient(err) || errors.As(err, &missing) || errors.Is(err, io.EOF)
}

// attachTo runs a command in a terminal inside; empty: the person's shell.
func attachTo(ctx context.Context, t *terminal, c *client.Service, in *os.File, keys *keyboard, workspace, name, line string) error {
	conn, err := c.SSH(ctx, workspace)
	if err != nil {
		return err
	}
	defer conn.Close()
	session, err := conn.NewSession()
	if err != nil {
		return fmt.Errorf("open a session in %s: %w", workspace, err)
	}
	defer session.Close()
	if name != "" {
		if err := session.Setenv(wire.TerminalName, name); err != nil {
			return err
		}
	}
	columns, rows, err := term.GetSize(int(in.Fd()))
	if err != nil {
		columns, rows = 80, 24
	}
	kind := os.Getenv("TERM")
	if kind == "" {
		kind = "xterm"
	}
	if err := session.RequestPty(kind, rows, columns, ssh.TerminalModes{}); err != nil {
		return fmt.Errorf("open a terminal in %s: %w", workspace, err)
	}
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return fmt.Errorf("make the terminal raw: %w", err)
	}
	defer func() { _ = term.Restore(int(in.Fd()), before) }()
	defer resizes(session, in)()
	typed, err := session.StdinPipe()
	if err != nil {
		return err
	}
	session.Stdout, session.Stderr = t.own()
	if line == "" {
		err = session.Shell()
	} else {
		err = session.Start(line)
	}
	if err != nil {
		return err
	}
	done, sent := make(chan struct{}), make(chan struct{})
	go func() {
		keys.send(typed, done)
		close(sent)
	}()
	err = session.Wait()
	close(done)
	conn.Close() // else sending may wait for it
	<-sent
	return err
}

// resizes passes on changes of the window's size until the returned function is called.
func resizes(session *ssh.Session, in *os.File) func() {
	changed, stop := windowChanges(in)
	go func() {
		for range changed {
			if columns, rows, err := term.GetSize(int(in.Fd())); err == nil {
				_ = session.WindowChange(rows, columns)
			}
		}
	}()
	return stop
}
