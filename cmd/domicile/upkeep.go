package main

import (
	"context"
	"flag"
	"fmt"
	"slices"

	"domicile/internal/amount"
	"domicile/internal/client"
)

var driftCommand = command{
	name: "drift", args: "NAME [-json]", summary: "Show what of a workspace differs from its definition, and the lines to add to it",
	example: "domicile drift fares",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			list, err := client.Answer[[]client.Drift](c.GetDrift(ctx, args[0]))
			return present(t, *asJSON, list, err, func(list []client.Drift) { printDrift(t, args[0], list) })
		}
	},
}

var tidyCommand = command{
	name: "tidy", args: "[-yes] [-json]", summary: "Show what nothing uses any more at the sites, and remove it",
	example: "domicile tidy\ndomicile tidy -yes",
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		yes := f.Bool("yes", false, "remove it")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			var list []client.Leftover
			var err error
			if *yes {
				list, err = client.Answer[[]client.Leftover](c.Tidy(ctx))
			} else {
				list, err = client.Answer[[]client.Leftover](c.ListLeftovers(ctx))
			}
			if err := present(t, *asJSON, list, err, func(list []client.Leftover) { printLeftovers(t, list, *yes) }); err != nil || *asJSON {
				return err
			}
			sites, err := client.Answer[[]client.Site](c.ListSites(ctx))
			for _, s := range sites {
				if !s.Ready {
					fmt.Fprintf(t.out, "The site %s does not answer, and was not looked at.\n", s.Name)
				}
			}
			return err
		}
	},
}

func printDrift(t *terminal, name string, list []client.Drift) {
	if len(list) == 0 {
		fmt.Fprintf(t.out, "%s is as its definition says.\n", name)
		return
	}
	table := newTable(t.out)
	table.row("WHAT", "NAME", "HOW IT DIFFERS", "TO ADD OR TO DO")
	for _, d := range list {
		table.row(string(d.Kind), d.Name, d.Says, orDash(text(d.Line)))
	}
	table.flush()
}

func printLeftovers(t *terminal, list []client.Leftover, removed bool) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "There is nothing to tidy.")
		return
	}
	total := int64(0)
	for _, g := range grouped(list) {
		total += g.bytes
		size := ""
		if g.bytes > 0 {
			size = ", at least " + amount.Of(g.bytes)
		}
		fmt.Fprintf(t.out, "%s: %s%s: %s\n", g.site, counted(len(g.names), g.kind), size, g.why)
		for i, name := range g.names {
			if i == mostNamed {
				fmt.Fprintf(t.out, "  and %d more; -json names all\n", len(g.names)-i)
				break
			}
			fmt.Fprintf(t.out, "  %s\n", name)
		}
	}
	word := "Removing it frees %s at least: layers that images share go with the last of them. To remove it: domicile tidy -yes\n"
	if removed {
		word = "Removed; %s at least are free again.\n"
	}
	fmt.Fprintf(t.out, word, amount.Of(total))
}

// mostNamed is how many leftovers of a kind and reason are named.
const mostNamed = 5

// leftovers are those of one site and kind with one reason.
type leftovers struct {
	site, kind, why string
	names           []string
	bytes           int64
}

func grouped(list []client.Leftover) (groups []*leftovers) {
	for _, l := range list {
		i := slices.IndexFunc(groups, func(g *leftovers) bool { return g.site == l.Site && g.kind == string(l.Kind) && g.why == l.Why })
		if i < 0 {
			i, groups = len(groups), append(groups, &leftovers{site: l.Site, kind: string(l.Kind), why: l.Why})
		}
		groups[i].names, groups[i].bytes = append(groups[i].names, l.Name), groups[i].bytes+l.Bytes
	}
	return groups
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
