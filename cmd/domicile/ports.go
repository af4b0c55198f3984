package main

import (
	"context"
	"flag"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"domicile/internal/client"
	"domicile/internal/usher"
)

var portsCommand = command{
	name: "ports", args: "[NAME] [-udp] [-json]", summary: "Show which ports a workspace has, who listens there, and how to reach them; without NAME of all that run",
	example: "domicile ports timetable\ndomicile forward timetable 8080",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		udp := f.Bool("udp", false, "datagram sockets too")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) > 1 {
				return wrongUse("one workspace's name is wanted, or none")
			}
			if len(args) == 1 {
				p, err := client.Answer[client.Ports](c.ListPorts(ctx, args[0], &client.ListPortsParams{Udp: udp}))
				return present(t, *asJSON, p, err, func(p client.Ports) { printPorts(t, p, here(ctx)) })
			}
			list, err := portsOfAll(ctx, c, *udp)
			return present(t, *asJSON, list, err, func(list []client.Ports) { printAllPorts(t, list, here(ctx)) })
		}
	},
}

// portsOfAll asks for the ports of all workspaces and helpers that run.
func portsOfAll(ctx context.Context, c *client.Service, udp bool) ([]client.Ports, error) {
	all, err := client.Answer[[]client.Workspace](c.ListWorkspaces(ctx, &client.ListWorkspacesParams{Helpers: new(true)}))
	if err != nil {
		return nil, err
	}
	list := []client.Ports{}
	for _, w := range all {
		if w.State != client.WorkspaceStateReady {
			continue
		}
		p, err := client.Answer[client.Ports](c.ListPorts(ctx, w.Name, &client.ListPortsParams{Udp: &udp}))
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, nil
}

func printPorts(t *terminal, p client.Ports, here usher.Status) {
	if len(p.Ports) == 0 {
		says := "nothing listens there"
		if !p.Known {
			says = "what listens there is not known: " + unknown
		}
		fmt.Fprintf(t.out, "%s names no port, and %s.\n", p.Workspace, says)
		return
	}
	table := newTable(t.out)
	table.row("PORT", "LABEL", "LISTENS", "AT", "REACH IT")
	for _, x := range p.Ports {
		table.row(append([]string{portNumber(x), orDash(text(x.Label))}, portCells(p, x, here)...)...)
	}
	table.flush()
	if !p.Known {
		fmt.Fprintf(t.out, "What listens in %s is not known: %s.\n", p.Workspace, unknown)
	}
	if p.More != nil {
		fmt.Fprintln(t.out, "There are more than are shown.")
	}
}

func printAllPorts(t *terminal, list []client.Ports, here usher.Status) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "No workspace runs. To see all: domicile list")
		return
	}
	table := newTable(t.out)
	table.row("WORKSPACE", "PORT", "LABEL", "LISTENS", "AT", "REACH IT")
	for _, p := range list {
		if len(p.Ports) == 0 {
			table.row(p.Workspace, "-", "-", "-", "-", "-")
		}
		for _, x := range p.Ports {
			table.row(append([]string{p.Workspace, portNumber(x), orDash(text(x.Label))}, portCells(p, x, here)...)...)
		}
	}
	table.flush()
}

// unknown is why it is not known what listens.
const unknown = "it does not run, or does not answer"

func portNumber(x client.Port) string {
	if x.Listener != nil && x.Listener.Network != "tcp" {
		return x.Port + "/" + string(x.Listener.Network)
	}
	return x.Port
}

// here is what the usher of this machine does; nothing where there is none.
func here(ctx context.Context) usher.Status {
	h, err := hallOf("", usualSuffix)
	if err != nil {
		return usher.Status{}
	}
	s, _ := h.status(ctx)
	return s
}

// portCells are who listens at a port, at which addresses, and where it is at this machine, or the
// line that brings it here.
func portCells(p client.Ports, x client.Port, here usher.Status) []string {
	reach := fmt.Sprintf("domicile forward %s %s", p.Workspace, x.Port)
	if local := here.Local(p.Workspace, x.Port); local != "" {
		reach = local
		if x.Protocol != nil {
			reach = *x.Protocol + "://" + local
		}
	}
	l := x.Listener
	switch {
	case l == nil && x.Known != nil && *x.Known:
		return []string{"nobody", "-", "-"}
	case l == nil && strings.Contains(x.Port, ":"): // of another service, which is reached where it is there
		return []string{"-", "-", reach}
	case l == nil:
		return []string{"-", "-", "-"}
	case l.Network != "tcp":
		reach = "-"
	}
	who := text(l.Process)
	if who == "" {
		who = "a program"
	}
	if l.User != nil {
		who += " of " + *l.User
	}
	return []string{who, heard(l.Addresses), reach}
}

// heard says to whom addresses answer.
func heard(addresses []string) string {
	if slices.ContainsFunc(addresses, func(a string) bool {
		ip, err := netip.ParseAddr(a)
		return err == nil && ip.IsUnspecified()
	}) {
		return "all addresses"
	}
	if !slices.ContainsFunc(addresses, func(a string) bool {
		ip, err := netip.ParseAddr(a)
		return err != nil || !ip.IsLoopback()
	}) {
		return "loopback"
	}
	return strings.Join(addresses, " ")
}
