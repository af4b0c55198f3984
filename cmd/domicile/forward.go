package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"domicile/internal/client"
	"domicile/internal/definition"
)

var forwardCommand = command{
	name: "forward", args: "NAME PORT[:LOCAL]", summary: "Make a port inside a workspace reachable on this machine, until Ctrl-C",
	example: "domicile forward timetable 8080\ndomicile forward timetable 8080:9000",
	takes:   []string{"NAME", "PORT"},
	setup: func(f *flag.FlagSet) action {
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			port, local, err := parseForward(args[1])
			if err != nil {
				return wrongUse("%v", err)
			}
			w := &forwarder{service: c, workspace: args[0], target: net.JoinHostPort(port.Host, strconv.Itoa(port.Number))}
			if _, err := w.conn(ctx); err != nil { // a slip in the name is told now, not at first use
				return err
			}
			listener, err := listenNear(local)
			if err != nil {
				return err
			}
			fmt.Fprintf(t.out, "%s in %s is at %s. Ctrl-C ends it.\n", args[1], args[0], listener.Addr())
			return w.serve(ctx, t, listener)
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

// forwarder keeps one connection to the workspace and makes it anew when it broke.
type forwarder struct {
	service   *client.Service
	workspace string
	target    string
	mu        sync.Mutex
	open      *ssh.Client
}

func (w *forwarder) conn(ctx context.Context) (*ssh.Client, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.open != nil {
		return w.open, nil
	}
	c, err := w.service.SSH(ctx, w.workspace)
	if err != nil {
		return nil, err
	}
	w.open = c
	go func() {
		_ = c.Wait()
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.open == c {
			w.open = nil
		}
	}()
	return c, nil
}

func (w *forwarder) serve(ctx context.Context, t *terminal, listener net.Listener) error {
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	for {
		near, err := listener.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("listen on this machine: %w", err)
		}
		go func() {
			defer near.Close()
			if err := w.join(ctx, near); err != nil {
				fmt.Fprintf(t.err, "domicile: %v\n", err)
			}
		}()
	}
}

func (w *forwarder) join(ctx context.Context, near net.Conn) error {
	c, err := w.conn(ctx)
	if err != nil {
		return err
	}
	far, err := c.DialContext(ctx, "tcp", w.target)
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) {
		return errors.New(refused.Message)
	}
	if err != nil {
		return fmt.Errorf("reach %s: %w", w.target, err)
	}
	defer far.Close()
	var both sync.WaitGroup
	both.Go(func() { pass(far, near) })
	both.Go(func() { pass(near, far) })
	both.Wait()
	return nil
}

// pass copies one way and tells the other side of the end.
func pass(to io.Writer, from io.Reader) {
	_, _ = io.Copy(to, from)
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
}
