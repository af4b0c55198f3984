package main

import (
	"context"
	"domicile/internal/listen"
	"flag"
	"fmt"
	"net"
	"strconv"
	"strings"

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
			port, local, err := parseForward(args[1])
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
			line := &sshline.Line[*ssh.Client]{Open: func(ctx context.Context) (*ssh.Client, error) { return c.SSH(ctx, name) }}
			defer line.Close()
			if _, _, err := line.Conn(ctx); err != nil { // a slip in the name is told now, not at first use
				return err
			}
			listener, err := listenNear(local)
			if err != nil {
				return err
			}
			fmt.Fprintf(t.out, "%s in %s is at localhost:%d. Ctrl-C ends it.\n", args[1], args[0], listener.Addr().(*net.TCPAddr).Port)
			return serveForward(ctx, t, listener, line, target)
		}
	},
}

// parseForward reads PORT, PORT:LOCAL, HOST:PORT or HOST:PORT:LOCAL.
func parseForward(s string) (definition.Port, int, error) {
	parts := strings.Split(s, ":")
	host := "localhost"
	if _, err := strconv.Atoi(parts[0]); err != nil {
		host, parts = parts[0], parts[1:]
	}
	if len(parts) == 0 || len(parts) > 2 {
		return definition.Port{}, 0, fmt.Errorf("%q is not PORT, PORT:LOCAL or HOST:PORT:LOCAL", s)
	}
	port, err := definition.ParsePort(host + ":" + parts[0])
	if err != nil || port.Number == 0 {
		return port, 0, fmt.Errorf("%q is no port", parts[0])
	}
	local := port.Number
	if len(parts) == 2 {
		if local, err = strconv.Atoi(parts[1]); err != nil || local < 0 || local > 65535 {
			return port, 0, fmt.Errorf("%q is no local port", parts[1])
		}
	}
	return port, local, nil
}

// listenNear listens on the local port, or where it is taken on another one.
func listenNear(port int) (net.Listener, error) {
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		if listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return nil, fmt.Errorf("listen on this machine: %w", err)
		}
	}
	return listener, nil
}

// serveForward joins all who come to a port inside, until ctx ends.
func serveForward(ctx context.Context, t *terminal, listener net.Listener, line *sshline.Line[*ssh.Client], target string) error {
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	accepting := listen.Patient(listener)
	for {
		near, err := accepting.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("listen on this machine: %w", err)
		}
		go func() {
			if err := line.Join(ctx, near, target); err != nil && ctx.Err() == nil {
				fmt.Fprintf(t.err, "domicile: %v\n", err)
			}
		}()
	}
}
