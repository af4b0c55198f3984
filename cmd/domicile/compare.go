package main

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"domicile/internal/client"
)

var compareCommand = command{
	name: "compare", args: "A B [-json]", summary: "Put two workspaces side by side: what differs, the most likely culprit first",
	example: "domicile compare fares fares-next",
	takes:   []string{"A", "B"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			found, err := client.Answer[client.Comparison](c.CompareWorkspaces(ctx, args[0], &client.CompareWorkspacesParams{With: args[1]}))
			return present(t, *asJSON, found, err, func(c client.Comparison) { printComparison(t, c) })
		}
	},
}

// mostOfAKind is how many differences of one kind are shown: two images differ in hundreds of
// packages.
const mostOfAKind = 12

// kindWords are the kinds as they are told together.
var kindWords = map[client.ComparedKind]string{"check": "checks", "definition": "definition", "source": "source", "image": "image", "variable": "variables", "tool": "tools", "pip": "Python packages", "npm": "npm packages",
	"gem": "Ruby packages", "package": "system packages", "system": "system", "limit": "limits", "site": "site"}

func printComparison(t *terminal, c client.Comparison) {
	switch n := len(c.Differences); n {
	case 0:
		fmt.Fprintf(t.out, "Nothing that was compared differs between %s and %s.\n", c.A.Name, c.B.Name)
	default:
		fmt.Fprintf(t.out, "%s between %s and %s, the most likely culprit first.\n", counted(n, "difference"), c.A.Name, c.B.Name)
	}
	width := max(len(c.A.Name), len(c.B.Name))
	shown, why := map[client.ComparedKind]int{}, ""
	for i, d := range c.Differences {
		if shown[d.Kind]++; shown[d.Kind] > mostOfAKind {
			continue
		}
		if d.Why != why { // what follows has the same reason
			why = d.Why
			fmt.Fprintf(t.out, "\n%s\n", upperFirst(why))
		}
		fmt.Fprintf(t.out, "%4d  %s %s\n", i+1, d.Kind, d.Name)
		fmt.Fprintf(t.out, "      %-*s  %s\n", width, c.A.Name, orDash(text(d.A)))
		fmt.Fprintf(t.out, "      %-*s  %s\n", width, c.B.Name, orDash(text(d.B)))
	}
	fmt.Fprintln(t.out)
	for _, kind := range slices.Sorted(maps.Keys(shown)) {
		if more := shown[kind] - mostOfAKind; more > 0 {
			fmt.Fprintf(t.out, "And %d more %s; -json tells all.\n", more, kindWords[kind])
		}
	}
	if len(c.Same) > 0 {
		var same []string
		for _, kind := range c.Same {
			same = append(same, kindWords[kind])
		}
		fmt.Fprintf(t.out, "The same: %s.\n", strings.Join(same, ", "))
	}
	for _, side := range []client.Compared{c.A, c.B} {
		if side.Unseen != nil {
			fmt.Fprintf(t.out, "Of %s not everything was compared: %s.\n", side.Name, *side.Unseen)
		}
	}
}

func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
