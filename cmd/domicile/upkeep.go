package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
)

var driftCommand = command{
	name: "drift", args: "NAME [-json]", summary: "Show what of a workspace differs from its definition, and the lines to add to it",
	example: "domicile drift fares",
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, args []string) error {
			if err := exactly(args, "NAME"); err != nil {
				return err
			}
			c, err := service()
			if err != nil {
				return err
			}
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
		return func(ctx context.Context, t *terminal, args []string) error {
			if err := exactly(args); err != nil {
				return err
			}
			c, err := service()
			if err != nil {
				return err
			}
			var list []client.Leftover
			if *yes {
				list, err = client.Answer[[]client.Leftover](c.Tidy(ctx))
			} else {
				list, err = client.Answer[[]client.Leftover](c.ListLeftovers(ctx))
			}
			return present(t, *asJSON, list, err, func(list []client.Leftover) { printLeftovers(t, list, *yes) })
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
	table, total := newTable(t.out), int64(0)
	table.row("SITE", "KIND", "NAME", "SIZE", "WHY")
	for _, l := range list {
		size := "-"
		if l.Bytes > 0 {
			size = fmt.Sprintf("%.0f MB", float64(l.Bytes)/1e6)
		}
		total += l.Bytes
		table.row(l.Site, string(l.Kind), l.Name, size, l.Why)
	}
	table.flush()
	word := "Removing it frees up to %s; images share layers. To remove it: domicile tidy -yes\n"
	if removed {
		word = "Removed; up to %s are free again.\n"
	}
	fmt.Fprintf(t.out, word, bytesOf(total))
}
