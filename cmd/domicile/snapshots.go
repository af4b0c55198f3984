package main

import (
	"context"
	"flag"
	"fmt"
	"strconv"

	"domicile/internal/amount"
	"domicile/internal/client"
)

var snapshotsCommand = command{
	name: "snapshots", args: "[keep NAME [-note TEXT] | make NUMBER [-name NAME] | return NAME NUMBER | hand NUMBER -to ACCOUNT | remove NUMBER] [-yes] [-json]",
	summary: "List, keep and use snapshots of workspaces: files and volumes, services too",
	example: "domicile snapshots keep quayboard -note \"before the new table\"\ndomicile snapshots return quayboard 3",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		x := &snapshots{asJSON: jsonFlag(f)}
		x.note = f.String("note", "", "what it is kept for")
		x.name = f.String("name", "", "the new workspace's name (default: that of the one it is a snapshot of)")
		x.to = f.String("to", "", "the account to give it to")
		x.yes = f.Bool("yes", false, "do not ask")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				list, err := client.Answer[[]client.Snapshot](c.ListSnapshots(ctx))
				return present(t, *x.asJSON, list, err, func(list []client.Snapshot) { printSnapshots(t, list) })
			}
			does := map[string]func(context.Context, *terminal, *client.Service, []string) error{"keep": x.keep, "make": x.make, "return": x.goBack, "hand": x.hand, "remove": x.remove}[args[0]]
			if does == nil {
				return wrongUse("%q is none of keep, make, return, hand, remove", args[0])
			}
			return does(ctx, t, c, args[1:])
		}
	},
}

// snapshots are the flags of the command.
type snapshots struct {
	asJSON, yes    *bool
	note, name, to *string
}

func (x *snapshots) keep(ctx context.Context, t *terminal, c *client.Service, args []string) error {
	if err := exactly(args, "NAME"); err != nil {
		return err
	}
	w, err := client.Answer[client.Workspace](c.SnapshotWorkspace(ctx, args[0], client.NewSnapshot{Note: given(*x.note)}))
	if err != nil {
		return err
	}
	if err := follow(ctx, t, c, w.Name, *w.Run, *x.asJSON); err != nil {
		return err
	}
	list, err := client.Answer[[]client.Snapshot](c.ListSnapshots(ctx))
	if err != nil || len(list) == 0 {
		return err
	}
	return present(t, *x.asJSON, list[0], nil, func(s client.Snapshot) {
		fmt.Fprintf(t.out, "Kept as snapshot %d, %s. To return to it: domicile snapshots return %s %d\n", s.Id, amount.Of(s.Bytes), s.Name, s.Id)
	})
}

func (x *snapshots) make(ctx context.Context, t *terminal, c *client.Service, args []string) error {
	id, err := numberOf(args)
	if err != nil {
		return err
	}
	w, err := client.Answer[client.Workspace](c.MakeFromSnapshot(ctx, id, client.FromSnapshot{Name: given(*x.name)}))
	if err != nil {
		return err
	}
	return madeInTheEnd(ctx, t, c, w, *x.asJSON)
}

func (x *snapshots) goBack(ctx context.Context, t *terminal, c *client.Service, args []string) error {
	if err := exactly(args, "NAME", "NUMBER"); err != nil {
		return err
	}
	id, err := numberOf(args[1:])
	if err != nil {
		return err
	}
	if !*x.yes {
		if err := confirm(t, "Return "+args[0]+" to snapshot "+args[1]+"? All that came into it since is lost. Type its name: ", args[0]); err != nil {
			return err
		}
	}
	w, err := client.Answer[client.Workspace](c.ReturnWorkspace(ctx, args[0], client.ReturnTo{Snapshot: id}))
	if err != nil {
		return err
	}
	return madeInTheEnd(ctx, t, c, w, *x.asJSON)
}

func (x *snapshots) hand(ctx context.Context, t *terminal, c *client.Service, args []string) error {
	id, err := numberOf(args)
	if err != nil {
		return err
	}
	if *x.to == "" {
		return wrongUse("-to is missing")
	}
	if !*x.yes {
		if err := confirm(t, fmt.Sprintf("Give snapshot %d to %s? All files in it go with it, your home folder too. Type the account's name: ", id, *x.to), *x.to); err != nil {
			return err
		}
	}
	if _, err := client.Answer[struct{}](c.HandSnapshot(ctx, id, client.HandTo{Account: *x.to})); err != nil {
		return err
	}
	return present(t, *x.asJSON, map[string]any{"id": id, "account": *x.to}, nil, func(map[string]any) {
		fmt.Fprintf(t.out, "Snapshot %d is %s's now. To make a workspace of it: domicile snapshots make %d\n", id, *x.to, id)
	})
}

func (x *snapshots) remove(ctx context.Context, t *terminal, c *client.Service, args []string) error {
	id, err := numberOf(args)
	if err != nil {
		return err
	}
	if !*x.yes {
		if err := confirm(t, fmt.Sprintf("Remove snapshot %d? Nobody can return to it then. Type its number: ", id), fmt.Sprint(id)); err != nil {
			return err
		}
	}
	if _, err := client.Answer[struct{}](c.RemoveSnapshot(ctx, id)); err != nil {
		return err
	}
	return present(t, *x.asJSON, map[string]any{"id": id}, nil, func(map[string]any) {
		fmt.Fprintf(t.out, "Snapshot %d is removed. Workspaces that were made of it stay.\n", id)
	})
}

func numberOf(args []string) (int64, error) {
	if err := exactly(args, "NUMBER"); err != nil {
		return 0, err
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil {
		return 0, wrongUse("%q is no number; domicile snapshots lists them", args[0])
	}
	return id, nil
}

func printSnapshots(t *terminal, list []client.Snapshot) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "You keep no snapshots. To keep one: domicile snapshots keep NAME")
		return
	}
	table := newTable(t.out)
	table.row("NUMBER", "OF", "KEPT", "SIZE", "NOTE")
	for _, s := range list {
		size := amount.Of(s.Bytes)
		if !s.Ready {
			size = "not kept yet"
		}
		table.row(fmt.Sprint(s.Id), s.Name, ago(s.Created), size, orDash(s.Note))
	}
	table.flush()
}

var prepareCommand = command{
	name: "prepare", args: "[SOURCE [-ref REF] [-file PATH] [-site SITE] [-size SIZE] [-follow] [-keep N] | remove NAME] [-detach] [-json]", summary: "Make ready ahead of time what provisioning of a source begins with, or list that",
	example: "domicile prepare http://127.0.0.1:4390/skerry/fares.git -follow -keep 2\ndomicile prepare",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		ref := f.String("ref", "", "branch, tag or commit")
		file := f.String("file", "", "the definition, where there are several")
		at := f.String("site", "", "the site (default: the plan chooses)")
		size := f.String("size", "", "a size of the site")
		branch := f.Bool("follow", false, "do it again whenever the branch moves")
		keep := f.Int("keep", 0, "how many workspaces are kept warm: made and started, for whoever provisions that commit")
		detach := f.Bool("detach", false, "do not wait for the end")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case len(args) == 0:
				list, err := client.Answer[[]client.Prepared](c.ListPrepared(ctx))
				return present(t, *asJSON, list, err, func(list []client.Prepared) { printPrepared(t, list) })
			case args[0] == "remove":
				if err := exactly(args[1:], "NAME"); err != nil {
					return err
				}
				_, err := client.Answer[struct{}](c.RemovePrepared(ctx, args[1]))
				return present(t, *asJSON, map[string]string{"name": args[1]}, err, func(map[string]string) {
					fmt.Fprintf(t.out, "%s is removed. Workspaces that began with it stay.\n", args[1])
				})
			}
			if err := exactly(args, "SOURCE"); err != nil {
				return err
			}
			p, err := client.Answer[client.Prepared](c.PrepareSource(ctx, client.PrepareRequest{Source: args[0], Ref: given(*ref), File: given(*file), Site: given(*at), Size: given(*size), Follow: branch, Keep: keep}))
			if err == nil && !*detach && p.Run != nil {
				err = follow(ctx, t, c, p.Name, *p.Run, *asJSON)
			}
			return present(t, *asJSON, p, err, func(p client.Prepared) {
				if *detach {
					fmt.Fprintf(t.out, "%s is being prepared. To see how far it is: domicile prepare\n", p.Name)
					return
				}
				if *keep > 0 {
					costs := ""
					if p.Price != nil {
						costs = fmt.Sprintf(", for %s %s an hour", p.Price.PerHour, p.Price.Currency)
					}
					fmt.Fprintf(t.out, "%d are kept warm from now on%s. To see how many there are: domicile prepare\n", *keep, costs)
				}
				fmt.Fprintf(t.out, "Prepared. To begin with it: domicile provision %s\n", p.Source)
			})
		}
	},
}

func printPrepared(t *terminal, list []client.Prepared) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "Nothing is prepared. To prepare something: domicile prepare SOURCE")
		return
	}
	table := newTable(t.out)
	table.row("NAME", "STATE", "COMMIT", "FOLLOWS", "WARM", "SIZE", "USED", "SOURCE")
	for _, p := range list {
		follows, used := "no", "-"
		if p.Follow {
			follows = "yes"
		}
		if p.Used != nil {
			used = ago(*p.Used)
		}
		table.row(p.Name, string(p.State), orDash(short(text(p.Commit))), follows, warm(p), amount.Of(p.Bytes), used, p.Source)
	}
	table.flush()
	for _, p := range list {
		if p.Price != nil {
			fmt.Fprintf(t.out, "%s: what is kept warm costs %s %s an hour, %s a month.\n", p.Name, p.Price.PerHour, p.Price.Currency, p.Price.PerMonth)
		}
		if p.Keeping != nil {
			fmt.Fprintf(t.out, "%s: one could not be kept warm, and is made again: %s\n", p.Name, *p.Keeping)
		}
	}
}

// warm tells how many workspaces are kept warm of those that are to be.
func warm(p client.Prepared) string {
	if p.Keep == nil || p.Kept == nil {
		return "-"
	}
	return fmt.Sprintf("%d of %d", *p.Kept, *p.Keep)
}
