package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
)

var moveCommand = command{
	name: "move", args: "NAME -site SITE [-size SIZE] [-from-kept] [-detach] [-json]", summary: "Take a workspace to another site, with all its files",
	example: "domicile move timetable -site mooring",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		site := f.String("site", "", "where it goes, of the sites that domicile sites lists")
		size := f.String("size", "", "a size of that site (default: one of the same name there, or the usual one)")
		fromKept := f.Bool("from-kept", false, "its own site does not answer, or has it no more: make it anew from what was kept of it")
		detach := f.Bool("detach", false, "do not wait for the end")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if *site == "" {
				return wrongUse("-site is missing")
			}
			w, err := client.Answer[client.Workspace](c.MoveWorkspace(ctx, args[0], client.MoveRequest{Site: *site, Size: given(*size), FromKept: fromKept}))
			if err != nil {
				return err
			}
			if !*detach && w.Run != nil {
				if err := follow(ctx, t, c, w.Name, *w.Run, *asJSON); err != nil {
					return err
				}
				if w, err = client.Answer[client.Workspace](c.GetWorkspace(ctx, w.Name)); err != nil {
					return err
				}
			}
			switch {
			case *asJSON:
				return printJSON(t.out, w)
			case *detach:
				fmt.Fprintf(t.out, "%s is on its way to %s. To watch: domicile follow %s\n", w.Name, *site, w.Name)
			case *fromKept:
				fmt.Fprintf(t.out, "%s is ready at %s, as it was when that was kept. What its earlier site has is kept as a snapshot when that answers again: domicile snapshots\n", w.Name, w.Site)
				waysIn(t.out, w)
			default:
				fmt.Fprintf(t.out, "%s is ready at %s. What it was before is a snapshot: domicile snapshots\n", w.Name, w.Site)
				waysIn(t.out, w)
			}
			return nil
		}
	},
}
