// Command domicile is the service and its command line.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/visible"
)

// version is set when the binary is built.
var version = "unreleased"

// command is one command of the command line.
type command struct {
	name    string
	args    string // how its arguments are shown
	summary string
	example string
	// takes are the names of its arguments, all of which must be there; anything: the action
	// sees to them.
	takes []string
	// alone tells that it needs no service to be signed in to.
	alone bool
	// setup declares the flags and returns what runs once they are read.
	setup func(f *flag.FlagSet) action
}

// anything is what a command takes whose action sees to its arguments.
var anything = []string{"anything"}

// action carries a command out with the arguments that are no flags. c is the service that the
// person is signed in to; nil where the command is alone.
type action func(ctx context.Context, t *terminal, c *client.Service, args []string) error

// terminal is what a command reads from and prints to. What is printed is made visible:
// names, logs and messages come from repositories and workspaces.
type terminal struct {
	in       io.Reader
	out, err io.Writer
}

// own is where the output of a person's own session goes, as it is.
func (t *terminal) own() (out, err io.Writer) { return under(t.out), under(t.err) }

// under is what lies under a writer that makes things visible.
func under(w io.Writer) io.Writer {
	if v, is := w.(*visible.Writer); is {
		return v.Unwrap()
	}
	return w
}

// usageError is a wrong use of a command: exit status 2.
type usageError struct{ text string }

func (e usageError) Error() string { return e.text }

func wrongUse(format string, args ...any) error { return usageError{fmt.Sprintf(format, args...)} }

// exitStatus ends the program with the status of a command that it ran, without a word.
type exitStatus int

func (e exitStatus) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

func main() {
	apartMain()
	readyTerminal()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	out, errOut := visible.NewWriter(os.Stdout), visible.NewWriter(os.Stderr)
	status := run(ctx, &terminal{os.Stdin, out, errOut}, os.Args[1:])
	_, _ = out.Flush(), errOut.Flush() // there is nobody left to tell
	stop()
	os.Exit(status)
}

// run carries out a command line and returns the exit status: 0 fine, 1 failed, 2 wrong use.
func run(ctx context.Context, t *terminal, args []string) int {
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "-help" || args[0] == "--help" {
		overview(t.out)
		if len(args) == 0 {
			return 2
		}
		return 0
	}
	if c, known := commandNamed(args[0]); known {
		return c.run(ctx, t, args[1:])
	}
	if slices.Contains(notHere, args[0]) {
		fmt.Fprintf(t.err, "domicile: %s is a command of the service, and this is the command line alone; the service runs on Linux and is installed from its sources or its package\n", args[0])
		return 2
	}
	fmt.Fprintf(t.err, "domicile: there is no command %q; domicile help lists them\n", args[0])
	return 2
}

func (c command) run(ctx context.Context, t *terminal, args []string) int {
	f := flag.NewFlagSet(c.name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	act := c.setup(f)
	rest, err := parse(f, args)
	if errors.Is(err, flag.ErrHelp) {
		c.help(t.out, f)
		return 0
	}
	if err == nil {
		err = c.act(ctx, t, act, rest)
	} else {
		err = wrongUse("%v", err)
	}
	var use usageError
	var exit exitStatus
	switch {
	case err == nil:
		return 0
	case errors.As(err, &exit):
		return int(exit)
	case errors.As(err, &use):
		fmt.Fprintf(t.err, "domicile %s: %v\nUse: domicile %s %s\n", c.name, err, c.name, c.args)
		return 2
	}
	fmt.Fprintf(t.err, "domicile: %v\n", err)
	if remedy := fault.Remedy(err); remedy != "" {
		fmt.Fprintln(t.err, fault.ToDo(remedy))
	}
	return 1
}

// act checks the arguments, opens the service, and carries the command out.
func (c command) act(ctx context.Context, t *terminal, act action, args []string) error {
	if !slices.Equal(c.takes, anything) {
		if err := exactly(args, c.takes...); err != nil {
			return err
		}
	}
	if c.alone {
		return act(ctx, t, nil, args)
	}
	at, err := service()
	if err != nil {
		return err
	}
	return act(ctx, t, at, args)
}

// parse reads flags that may stand before, between and behind the arguments. What stands
// behind -- is taken as it is.
func parse(f *flag.FlagSet, args []string) (rest []string, err error) {
	var verbatim []string
	for i, a := range args {
		if a == "--" {
			args, verbatim = args[:i], args[i+1:]
			break
		}
	}
	for len(args) > 0 {
		if err := f.Parse(args); err != nil {
			return nil, err
		}
		if args = f.Args(); len(args) > 0 {
			rest, args = append(rest, args[0]), args[1:]
		}
	}
	return append(rest, verbatim...), nil
}

func (c command) help(w io.Writer, f *flag.FlagSet) {
	fmt.Fprintf(w, "%s\n\nUse: domicile %s %s\n", c.summary, c.name, c.args)
	any := false
	f.VisitAll(func(*flag.Flag) { any = true })
	if any {
		fmt.Fprint(w, "\nFlags:\n")
		f.SetOutput(w)
		f.PrintDefaults()
	}
	fmt.Fprintf(w, "\nExample:\n  %s\n", strings.ReplaceAll(c.example, "\n", "\n  "))
}

// exactly checks the number of arguments.
func exactly(args []string, names ...string) error {
	if len(args) < len(names) {
		return wrongUse("%s is missing", names[len(args)])
	}
	if len(args) > len(names) {
		return wrongUse("%q is one argument too many", args[len(names)])
	}
	return nil
}
