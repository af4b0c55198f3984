package main

import (
	"context"
	"domicile/internal/fault"
	"domicile/internal/listen"
	"errors"
	"flag"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/definition"
	"domicile/internal/sshline"
	"domicile/internal/usher"
)

var forwardCommand = command{
	name: "forward", args: "NAME PORT[:LOCAL] [-reverse [-keep | -forget]]", summary: "Make a port inside a workspace reachable on this machine, or one of this machine inside, until Ctrl-C",
	example: "domicile forward timetable 8080\ndomicile forward timetable 8080:9000\ndomicile forward timetable 8081:3000 -reverse\ndomicile forward timetable 8081:3000 -reverse -keep",
	takes:   []string{"NAME", "PORT"},
	setup: func(f *flag.FlagSet) action {
		other := f.Bool("reverse", false, "the other way round: port LOCAL of this machine appears inside, at PORT of its loopback")
		keep := f.Bool("keep", false, "with -reverse: the usher of this machine keeps it, for as long as the workspace exists")
		forget := f.Bool("forget", false, "with -reverse: the usher keeps it no more")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			port, local, named, err := parseForward(args[1])
			if err != nil {
				return wrongUse("%v", err)
			}
			if *other {
				if port.Host != "localhost" || local == 0 {
					return wrongUse("with -reverse PORT or PORT:LOCAL is wanted, both from 1 to 65535")
				}
				if *keep || *forget {
					return keepReverse(ctx, t, usher.Reverse{Workspace: args[0], Inside: port.Number, Local: local, Forget: *forget})
				}
				return reverse(ctx, t, c, args[0], port.Number, local)
			}
			if *keep || *forget {
				return wrongUse("-keep and -forget go with -reverse; the usher keeps the other ports by itself")
			}
			name, target := args[0], net.JoinHostPort(port.Host, strconv.Itoa(port.Number))
			line := &sshline.Line[*ssh.Client]{Open: func(ctx context.Context) (*ssh.Client, error) { return c.LongSSH(ctx, name) }}
			defer line.Close()
			if _, _, err := line.Conn(ctx); err != nil { // a slip in the name is told now, not at first use
				return err
			}
			listeners, err := listenNear(ctx, local, named)
			if err != nil {
				return err
			}
			if already := usherHas(ctx, name, target); already != "" {
				fmt.Fprintf(t.err, "The usher of this machine has it already, at %s.\n", already)
			}
			fmt.Fprintf(t.out, "%s in %s is at localhost:%d. Ctrl-C ends it.\n", args[1], args[0], listeners[0].Addr().(*net.TCPAddr).Port)
			return serveForward(ctx, t, listeners, line, target)
		}
	},
}

// parseForward reads PORT, PORT:LOCAL, HOST:PORT or HOST:PORT:LOCAL; named reports that it has LOCAL.
func parseForward(s string) (port definition.Port, local int, named bool, err error) {
	parts := strings.Split(s, ":")
	host := "localhost"
	if _, err := strconv.Atoi(parts[0]); err != nil {
		host, parts = parts[0], parts[1:]
	}
	if len(parts) == 0 || len(parts) > 2 {
		return definition.Port{}, 0, false, fmt.Errorf("%q is not PORT, PORT:LOCAL or HOST:PORT:LOCAL", s)
	}
	port, err = definition.ParsePort(host + ":" + parts[0])
	if err != nil || port.Number == 0 {
		return port, 0, false, fmt.Errorf("%q is no port", parts[0])
	}
	local = port.Number
	if named = len(parts) == 2; named {
		if local, err = strconv.Atoi(parts[1]); err != nil || local < 0 || local > 65535 {
			return port, 0, true, fmt.Errorf("%q is no local port", parts[1])
		}
	}
	return port, local, named, nil
}

// listenNear listens on a local port in both versions of IP; on another one if it is taken and the person did not
// name it.
func listenNear(ctx context.Context, port int, named bool) ([]net.Listener, error) {
	listeners, err := usher.ListenAt(ctx, port)
	if err != nil && named {
		return nil, fault.Wrap(err, "port-taken", "leave the local port out, or name another", "port %d of this machine cannot be had", port)
	}
	for range 20 { // one that is free in IPv4 may be taken in IPv6
		if err == nil {
			return listeners, nil
		}
		listeners, err = usher.ListenAt(ctx, 0)
	}
	return nil, fmt.Errorf("listen on this machine: %w", err)
}

// usherHas is where the usher of this machine has a port of a workspace; empty: nowhere, or no usher runs.
func usherHas(ctx context.Context, workspace, target string) string {
	h, err := hallOf("", usualSuffix)
	if err != nil {
		return ""
	}
	s, err := h.status(ctx)
	if err != nil {
		return ""
	}
	for _, p := range s.Places {
		for _, port := range p.Ports {
			if p.Name == workspace && (port.Port == target || "localhost:"+port.Port == target) {
				return port.Local
			}
		}
	}
	return ""
}

// serveForward joins all who come to a port inside, until ctx ends.
func serveForward(ctx context.Context, t *terminal, listeners []net.Listener, line *sshline.Line[*ssh.Client], target string) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var all sync.WaitGroup
	for _, l := range listeners {
		context.AfterFunc(ctx, func() { l.Close() })
		all.Go(func() {
			accepting := listen.Patient(l)
			for {
				near, err := accepting.Accept()
				if ctx.Err() != nil {
					return
				}
				if err != nil {
					cancel(fmt.Errorf("listen on this machine: %w", err))
					return
				}
				go func() {
					if err := line.Join(ctx, near, target); err != nil && ctx.Err() == nil {
						fmt.Fprintf(t.err, "domicile: %v\n", err)
					}
				}()
			}
		})
	}
	all.Wait()
	if err := context.Cause(ctx); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}
