package main

import (
	"context"
	"flag"
	"fmt"
	"strings"
	"time"

	"domicile/internal/client"
)

var helperCommand = command{
	name: "helper", args: "NAME [(-image IMAGE | -file PATH) [-as HELPER] [-share]] [-detach] [-json]", summary: "List a workspace's helpers, or make one: a second place beside it",
	example: "domicile helper timetable -image registry.example.com/tools:1 -as tools -share\ndomicile helper timetable",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		image := f.String("image", "", "the image to make it from")
		file := f.String("file", "", "a definition in the workspace's repository to make it from")
		as := f.String("as", "", "its name, by which it is reached from inside (default: the last part of the image's)")
		share := f.Bool("share", false, "give it the workspace's source")
		detach := f.Bool("detach", false, "do not wait for the end")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if *image == "" && *file == "" {
				list, err := client.Answer[[]client.Workspace](c.ListHelpers(ctx, args[0]))
				return present(t, *asJSON, list, err, func(list []client.Workspace) { printHelpers(t, args[0], list) })
			}
			if *as == "" {
				*as = helperName(*image)
			}
			w, err := client.Answer[client.Workspace](c.AddHelper(ctx, args[0], client.NewHelper{Name: *as, Image: given(*image), File: given(*file), Share: share}))
			if err != nil {
				return err
			}
			if *detach {
				return present(t, *asJSON, w, nil, func(w client.Workspace) {
					fmt.Fprintf(t.out, "%s is being made. To watch: domicile follow %s\n", w.Name, w.Name)
				})
			}
			if err := madeInTheEnd(ctx, t, c, w, *asJSON); err != nil || *asJSON {
				return err
			}
			fmt.Fprintf(t.out, "From inside %s: ssh %s. From here: domicile shell %s\n", args[0], *as, w.Name)
			return nil
		}
	},
}

// helperName suggests a name: the last part of the image's.
func helperName(image string) string {
	name := image[strings.LastIndexByte(image, '/')+1:]
	name, _, _ = strings.Cut(name, ":")
	name, _, _ = strings.Cut(name, "@")
	if name == "" {
		return "helper"
	}
	return strings.ToLower(name)
}

func printHelpers(t *terminal, of string, list []client.Workspace) {
	if len(list) == 0 {
		fmt.Fprintf(t.out, "%s has no helpers. To make one: domicile helper %s -image IMAGE\n", of, of)
		return
	}
	table := newTable(t.out)
	table.row("HELPER", "STATE", "FROM", "FROM INSIDE", "FROM HERE")
	for _, w := range list {
		from := text(w.Image)
		if w.File != nil {
			from = *w.File
		}
		_, name, _ := strings.Cut(w.Name, ".")
		table.row(name, string(w.State), orDash(from), "ssh "+name, "domicile shell "+w.Name)
	}
	table.flush()
}

var stayCommand = command{
	name: "stay", args: "NAME [-for TIME] [-json]", summary: "Keep a workspace from stopping by itself for a while",
	example: "domicile stay timetable -for 8h",
	takes:   []string{"NAME"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		how := f.Duration("for", 0, "how long, such as 8h (default: as long as it may be without use)")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			q := client.Stay{}
			if *how != 0 {
				q.For = new(how.String())
			}
			w, err := client.Answer[client.Workspace](c.StayWorkspace(ctx, args[0], q))
			return present(t, *asJSON, w, err, func(w client.Workspace) {
				if w.StayUntil == nil {
					fmt.Fprintf(t.out, "%s does not stop by itself.\n", w.Name)
					return
				}
				fmt.Fprintf(t.out, "%s stays until %s at least.\n", w.Name, w.StayUntil.Local().Format(time.DateTime))
			})
		}
	},
}
