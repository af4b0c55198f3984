package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
	"domicile/internal/fault"
)

var rebuildCommand = command{
	name: "rebuild", args: "NAME [-pull] [-foresee] [-yes] [-detach] [-json]", summary: "Bring a workspace to what its definition says now, with as little as that takes",
	example: "domicile rebuild fares -foresee\ndomicile rebuild fares",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		detach := f.Bool("detach", false, "do not wait for its end")
		only := f.Bool("foresee", false, "only show what it would do, and what would be lost")
		pull := f.Bool("pull", false, "bring new commits into its source, too; never over changes")
		yes := f.Bool("yes", false, "do not ask, also where something is lost")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			foreseen, err := client.Answer[client.Foreseen](c.ForeseeRebuild(ctx, args[0], &client.ForeseeRebuildParams{Pull: pull}))
			// A git host that is away for a moment is the run's to wait for.
			if err != nil && (*only || !fault.IsTransient(err)) {
				return err
			}
			if err == nil && !*asJSON {
				printForeseen(t, foreseen)
			}
			if *only {
				return present(t, *asJSON, foreseen, nil, func(client.Foreseen) {})
			}
			if _, interactive := fileOf(t.in); interactive && !*yes && len(foreseen.Lost) > 0 {
				if err := confirm(t, "Go on? Type its name: ", args[0]); err != nil {
					return err
				}
			}
			w, err := client.Answer[client.Workspace](c.RebuildWorkspace(ctx, args[0], &client.RebuildWorkspaceParams{Pull: pull}))
			if err != nil {
				return err
			}
			if *detach {
				return present(t, *asJSON, w, nil, func(w client.Workspace) {
					fmt.Fprintf(t.out, "%s is being rebuilt. To watch: domicile follow %s\n", w.Name, w.Name)
				})
			}
			return madeInTheEnd(ctx, t, c, w, *asJSON)
		}
	},
}

// madeInTheEnd follows a run to its end and shows the workspace as it is then.
func madeInTheEnd(ctx context.Context, t *terminal, c *client.Service, w client.Workspace, asJSON bool) error {
	if w.Run != nil {
		if err := follow(ctx, t, c, w.Name, *w.Run, asJSON); err != nil {
			return err
		}
	}
	w, err := client.Answer[client.Workspace](c.GetWorkspace(ctx, w.Name))
	return present(t, asJSON, w, err, func(w client.Workspace) { fmt.Fprintf(t.out, "%s is %s.\n", w.Name, w.State) })
}

func printForeseen(t *terminal, f client.Foreseen) {
	switch {
	case len(f.Steps) == 0 && !f.Replaces:
		fmt.Fprintln(t.out, "Nothing of the definition changed: there is nothing to do again.")
		return
	case f.Replaces && (f.Keeps == nil || !*f.Keeps):
		fmt.Fprintln(t.out, "The container is replaced, and its site cannot keep the earlier one until the new one works.")
	case f.Replaces:
		fmt.Fprintln(t.out, "The container is replaced. The earlier one is kept until the new one works.")
	default:
		fmt.Fprintln(t.out, "The container stays.")
	}
	list(t, "To be done again:", f.Steps)
	list(t, "What stays:", f.Stays)
	list(t, "What is lost:", f.Lost)
}
