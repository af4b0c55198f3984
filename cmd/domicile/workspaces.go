package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"domicile/internal/amount"
	"domicile/internal/client"
)

var listCommand = command{
	name: "list", args: "[-json]", summary: "List your workspaces, newest use first",
	example: "domicile list",
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			list, err := client.Answer[[]client.Workspace](c.ListWorkspaces(ctx, nil))
			if err != nil {
				return err
			}
			if *asJSON {
				return printJSON(t.out, list)
			}
			if len(list) == 0 {
				fmt.Fprintln(t.out, "You have no workspace yet. To make one: domicile provision SOURCE")
				return printAsGuest(ctx, t, c)
			}
			table := newTable(t.out)
			table.row("NAME", "STATE", "SITE", "USED", "SOURCE")
			for _, w := range list {
				table.row(w.Name, string(w.State), w.Site, ago(w.LastUsed), sourceOf(w))
			}
			table.flush()
			if costs := runningCost(list); costs != "" {
				fmt.Fprintf(t.out, "What runs costs %s an hour.\n", costs)
			}
			return printAsGuest(ctx, t, c)
		}
	},
}

// runningCost is what those that run cost an hour, by currency; empty for nothing.
func runningCost(list []client.Workspace) string {
	sum := map[string]float64{}
	for _, w := range list {
		if w.State != client.WorkspaceStateReady || w.Price == nil {
			continue
		}
		if hour, err := strconv.ParseFloat(w.Price.PerHour, 64); err == nil {
			sum[w.Price.Currency] += hour
		}
	}
	var words []string
	for _, currency := range slices.Sorted(maps.Keys(sum)) {
		words = append(words, inMoney(sum[currency])+" "+currency)
	}
	return strings.Join(words, " and ")
}

// inMoney writes an amount with two digits behind the point, or as many as it needs.
func inMoney(amount float64) string {
	text := strings.TrimRight(strconv.FormatFloat(amount, 'f', 6, 64), "0")
	if digits := len(text) - strings.Index(text, ".") - 1; digits < 2 {
		text += strings.Repeat("0", 2-digits)
	}
	return text
}

// costOf is what a workspace costs while it runs; empty for nothing.
func costOf(w client.Workspace) string {
	if w.Price == nil {
		return ""
	}
	return fmt.Sprintf("%s %s an hour while it runs, %s a month if it always does", w.Price.PerHour, w.Price.Currency, w.Price.PerMonth)
}

func sourceOf(w client.Workspace) string {
	if w.Ref != nil {
		return w.Source + " at " + *w.Ref
	}
	return w.Source
}

var showCommand = command{
	name: "show", args: "NAME [-json]", summary: "Show a workspace: what it is, its state, and the ways in",
	example: "domicile show timetable",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			w, err := client.Answer[client.Workspace](c.GetWorkspace(ctx, args[0]))
			if err != nil {
				return err
			}
			if *asJSON {
				return printJSON(t.out, w)
			}
			show(t.out, w)
			return nil
		}
	},
}

// varied is what is set in its definition to another value than the file says.
func varied(w client.Workspace) string {
	if w.Vary == nil {
		return ""
	}
	return strings.Join(*w.Vary, ", ")
}

func show(out io.Writer, w client.Workspace) {
	fmt.Fprintf(out, "%s is %s", w.Name, w.State)
	if w.Reason != nil {
		fmt.Fprintf(out, ": %s", *w.Reason)
	}
	fmt.Fprintln(out)
	table := newTable(out)
	for _, row := range [][2]string{{"source", sourceOf(w)}, {"commit", short(text(w.Commit))}, {"definition", text(w.Definition)}, {"set to", varied(w)}, {"image", text(w.Image)}, {"built from", text(w.Dockerfile)}, {"site", w.Site},
		{"user", text(w.User)}, {"folder", text(w.Folder)}, {"size", text(w.Size)}, {"costs", costOf(w)}, {"helpers", helpersOf(w)}, {"made", ago(w.Created)}, {"used", ago(w.LastUsed)}} {
		if row[1] != "" {
			table.row("  "+row[0], row[1])
		}
	}
	table.flush()
	if w.StopsAt != nil {
		fmt.Fprintf(out, "Nobody uses it: it stops at %s. To keep it: domicile stay %s\n", w.StopsAt.Local().Format("15:04:05"), w.Name)
	}
	if w.Kept != nil {
		fmt.Fprintf(out, "What was kept of it %s is at %s. To make it anew from that: domicile move %s -site %s -from-kept\n", ago(w.Kept.Created), w.Kept.Site, w.Name, w.Kept.Site)
	}
	if w.State == client.WorkspaceStateReady {
		waysIn(out, w)
	}
}

func helpersOf(w client.Workspace) string {
	if w.Helpers == nil {
		return ""
	}
	var names []string
	for _, h := range *w.Helpers {
		names = append(names, h.Name+" ("+h.State+")")
	}
	return strings.Join(names, ", ")
}

func short(commit string) string {
	if len(commit) > 12 {
		return commit[:12]
	}
	return commit
}

// waysIn prints how to get into a ready workspace.
func waysIn(out io.Writer, w client.Workspace) {
	fmt.Fprintln(out, "Ways in:")
	table := newTable(out)
	table.row("  terminal", "domicile shell "+w.Name)
	table.row("  SSH", text(w.Ssh))
	if w.Screen != nil {
		table.row("  screen "+*w.Screen, "domicile screen "+w.Name+" -png FILE")
	}
	for _, p := range w.Ports {
		label := p.Port
		if p.Label != nil {
			label += " " + *p.Label
		}
		table.row("  port "+label, "domicile forward "+w.Name+" "+p.Port)
	}
	table.flush()
}

// changeCommand is a command that starts a run of a workspace.
func changeCommand(name, summary, done string, request func(*client.Service, context.Context, string) (*http.Response, error)) command {
	return command{
		name: name, args: "NAME [-detach] [-json]", summary: summary,
		example: "domicile " + name + " timetable",
		takes:   []string{"NAME"},
		setup: func(f *flag.FlagSet) action {
			asJSON := jsonFlag(f)
			detach := f.Bool("detach", false, "do not wait for the end")
			return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
				w, err := client.Answer[client.Workspace](request(c, ctx, args[0]))
				if err != nil {
					return err
				}
				if !*detach && w.Run != nil {
					if err := follow(ctx, t, c, w.Name, *w.Run, *asJSON); err != nil {
						return err
					}
				}
				if *asJSON {
					return printJSON(t.out, w)
				}
				if !*detach {
					fmt.Fprintf(t.out, strings.TrimSpace(done)+"\n", w.Name)
				}
				return nil
			}
		},
	}
}

var startCommand = changeCommand("start", "Start a stopped workspace", "%s is ready.", func(c *client.Service, ctx context.Context, name string) (*http.Response, error) {
	return c.StartWorkspace(ctx, name)
})

var stopCommand = changeCommand("stop", "Stop a workspace; its files stay", "%[1]s is stopped. To start it again: domicile start %[1]s", func(c *client.Service, ctx context.Context, name string) (*http.Response, error) {
	return c.StopWorkspace(ctx, name)
})

var removeCommand = command{
	name: "remove", args: "NAME [-yes] [-detach] [-json]", summary: "Remove a workspace and all that was made for it",
	example: "domicile remove timetable",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		yes := f.Bool("yes", false, "do not ask")
		remove := changeCommand("remove", "", "%s is removed.", func(c *client.Service, ctx context.Context, name string) (*http.Response, error) {
			return c.RemoveWorkspace(ctx, name)
		})
		act := remove.setup(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if !*yes {
				if err := confirm(t, "Remove "+args[0]+" with all files in it? What was not pushed is lost. Type its name: ", args[0]); err != nil {
					return err
				}
			}
			return act(ctx, t, c, args)
		}
	},
}

// confirm asks on a terminal. Elsewhere nobody would see the question: then it is refused.
func confirm(t *terminal, question, answer string) error {
	if _, interactive := fileOf(t.in); !interactive {
		return wrongUse("nobody can be asked here; add -yes")
	}
	fmt.Fprint(t.err, question)
	var said string
	_, _ = fmt.Fscanln(t.in, &said)
	if said != answer {
		return fmt.Errorf("nothing was done: %q is not %q", said, answer)
	}
	return nil
}

// trustOf says how far a site and the service keep workspaces from the host.
func trustOf(s client.Site) (said []string) {
	if s.UserNamespaces != nil {
		line := "root of a workspace is nobody on its host (user namespaces)"
		if !*s.UserNamespaces {
			line = "root of a workspace is root on its host: start its engine with userns-remap (docs/trust.md)"
		}
		said = append(said, line)
	}
	if s.Apart != nil && !*s.Apart {
		said = append(said, "not everything that is untrusted is kept apart from the service's host: /readyz says what")
	}
	return said
}

func sizesOf(s client.Site) string {
	if s.Sizes == nil {
		return "-"
	}
	var names []string
	for _, size := range *s.Sizes {
		text := fmt.Sprintf("%s %g/%s", size.Name, size.Cpus, amount.Of(size.MemoryBytes))
		if p := size.Price; p != nil {
			text += fmt.Sprintf(" for %s %s an hour", p.PerHour, p.Currency)
		}
		names = append(names, text)
	}
	return strings.Join(names, ", ")
}

// sizeWords is a size in words, with what it costs.
func sizeWords(s client.Size) string {
	text := fmt.Sprintf("%s: %s, %s of memory", s.Name, processors(s.Cpus), amount.Of(s.MemoryBytes))
	if p := s.Price; p != nil {
		text += fmt.Sprintf(", %s %s an hour while it runs, %[3]s %[2]s a month if it always does", p.PerHour, p.Currency, p.PerMonth)
	}
	return text
}

func optionalNumber(n *int) string {
	if n == nil {
		return "-"
	}
	return fmt.Sprint(*n)
}

func optionalBytes(n *int64) string {
	if n == nil {
		return "-"
	}
	return amount.Of(*n)
}

func processors(n float64) string {
	if n == 1 {
		return "1 processor"
	}
	return fmt.Sprintf("%g processors", n)
}
