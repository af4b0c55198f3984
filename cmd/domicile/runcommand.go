package main

import (
	"context"
	"errors"
	"flag"
	"fmt"

	"al.essio.dev/pkg/shellescape"
	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
)

var runCommand = command{
	name: "run", args: "NAME -- COMMAND [ARGUMENT…] | -each KEY=VALUE,VALUE… SOURCE -- COMMAND [ARGUMENT…]", summary: "Run a command in a workspace, or in several versions of one, and pass its exit status on",
	example: "domicile run timetable -- python3 -m unittest\ndomicile run -each image=12,13 http://127.0.0.1:4390/skerry/timetable.git -- python3 -m unittest",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		e := eachFlags(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				return wrongUse("NAME is missing")
			}
			if len(args) == 1 {
				return wrongUse("COMMAND is missing")
			}
			if len(*e.each) > 0 {
				return e.run(ctx, t, c, args[0], shellescape.QuoteCommand(args[1:]))
			}
			if err := e.alone(f); err != nil {
				return err
			}
			return runIn(ctx, t, c, args[0], shellescape.QuoteCommand(args[1:]))
		}
	},
}

// runIn runs a shell's line in a workspace and passes its exit status on.
func runIn(ctx context.Context, t *terminal, c *client.Service, name, line string) error {
	conn, err := c.SSH(ctx, name)
	if err != nil {
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	session, err := conn.NewSession()
	if err != nil {
		return fmt.Errorf("open a session in %s: %w", name, err)
	}
	defer session.Close()
	session.Stdin = t.in
	session.Stdout, session.Stderr = t.own()
	err = session.Run(line)
	var exit *ssh.ExitError
	if errors.As(err, &exit) {
		if exit.Signal() != "" {
			fmt.Fprintf(t.err, "domicile: the command was ended by signal %s\n", exit.Signal())
			return exitStatus(endedBySignal)
		}
		return exitStatus(exit.ExitStatus())
	}
	if err != nil {
		return fmt.Errorf("the connection to %s broke before the command ended; it may go on: %w", name, err)
	}
	return nil
}

// endedBySignal is the exit status for a command that a signal ended; which one is said in words.
const endedBySignal = 129
