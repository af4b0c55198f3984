package main

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	"domicile/internal/client"
	"domicile/internal/fault"
	"domicile/internal/splice"
	"domicile/internal/usher"
)

// reverseAgain is the pause before a lost connection is made anew.
const reverseAgain = time.Second

// reverse has a port of this machine appear inside a workspace, on its loopback, until ctx ends.
func reverse(ctx context.Context, t *terminal, c *client.Service, workspace string, inside, local int) error {
	stood := false
	for {
		err := reverseOnce(ctx, t, c, workspace, inside, local, func() {
			if stood {
				fmt.Fprintf(t.out, "Port %d of this machine is in %s again.\n", local, workspace)
				return
			}
			fmt.Fprintf(t.out, "Port %d of this machine is at localhost:%d in %s. Ctrl-C ends it.\n", local, inside, workspace)
			stood = true
		})
		switch {
		case ctx.Err() != nil:
			return nil
		case !stood || !broken(err) && fault.Code(err) != "not-ready":
			return err
		case fault.Code(err) == "connection-lost":
			fmt.Fprintf(t.err, "The connection to %s is lost; it is made anew.\n", workspace)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(reverseAgain):
		}
	}
}

// reverseOnce serves one connection until it ends.
func reverseOnce(ctx context.Context, t *terminal, c *client.Service, workspace string, inside, local int, there func()) error {
	conn, err := c.SSH(ctx, workspace)
	if err != nil {
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	listener, err := conn.Listen("tcp", net.JoinHostPort("localhost", strconv.Itoa(inside)))
	if err != nil {
		return fault.Wrap(err, "port-taken", fmt.Sprintf("domicile ports %s tells who has it; or take another: PORT:LOCAL", workspace), "port %d is not free in %s", inside, workspace)
	}
	there()
	for {
		far, err := listener.Accept()
		if err != nil {
			return fault.Transient(err, "connection-lost", "", "the connection to %s is lost", workspace)
		}
		go joinLocal(ctx, t, far, local)
	}
}

// joinLocal joins who comes inside to a port of this machine.
func joinLocal(ctx context.Context, t *terminal, far net.Conn, local int) {
	if err := splice.Local(ctx, far, local); err != nil {
		fmt.Fprintf(t.err, "domicile: %v\n", err)
	}
}

// keepReverse has the usher of this machine keep a port, or forget it.
func keepReverse(ctx context.Context, t *terminal, r usher.Reverse) error {
	h, err := hallOf("", usualSuffix)
	if err != nil {
		return err
	}
	s, err := h.tell(ctx, usher.ReversePath, r)
	if err != nil {
		return err
	}
	if r.Forget {
		fmt.Fprintf(t.out, "Port %d of %s is this machine's no more.\n", r.Inside, r.Workspace)
		return nil
	}
	for _, p := range s.Places {
		if p.Name == r.Workspace && p.State != string(client.WorkspaceStateReady) {
			fmt.Fprintf(t.out, "Port %d of this machine will be at localhost:%d in %s when that runs.\n", r.Local, r.Inside, r.Workspace)
			return nil
		}
	}
	fmt.Fprintf(t.out, "Port %d of this machine is at localhost:%d in %s, as long as the usher is at work.\n", r.Local, r.Inside, r.Workspace)
	return nil
}
