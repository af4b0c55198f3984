package main

import (
	"context"
	"flag"
	"fmt"
	"time"

	"domicile/internal/client"
	"domicile/internal/fault"
)

var inviteCommand = command{
	name: "invite", args: "NAME PERSON [-may look|type] [-hours N] [-json]", summary: "Invite somebody into a workspace for a time, to look or to type",
	example: "domicile invite timetable finn\ndomicile invite timetable finn -may type -hours 2",
	takes:   []string{"NAME", "PERSON"},
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		may := f.String("may", "look", "look: see what happens in the terminals that are open; type: come in as you do, by terminals, SSH, files and forwards")
		hours := f.Int("hours", 8, "how long the invitation holds, at most 720")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			kind := client.InviteGuestMay(*may)
			g, err := client.Answer[client.Guest](c.InviteGuest(ctx, args[0], args[1], client.InviteGuest{May: &kind, Hours: hours}))
			return present(t, *asJSON, g, err, func(g client.Guest) {
				fmt.Fprintf(t.out, "%s may %s in %s until %s.\n", g.Person, g.May, args[0], g.Until.Local().Format(time.DateTime))
				if g.May == client.GuestMayType {
					fmt.Fprintln(t.out, "Who types there can do what you can do there, with the credentials that the workspace has. Nothing there reaches your own machine meanwhile: not your usher, nor keys and a display that ssh offers.")
				}
				fmt.Fprintf(t.out, "To end it before: domicile guests %s -end %s\n", args[0], g.Person)
			})
		}
	},
}

var guestsCommand = command{
	name: "guests", args: "[NAME [-end PERSON] | -leave NAME~OWNER] [-json]", summary: "Show who is invited into a workspace or, without a name, what you are invited into",
	example: "domicile guests timetable\ndomicile guests timetable -end finn\ndomicile guests\ndomicile guests -leave timetable~skipper",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		end := f.String("end", "", "end the invitation of this person, who is out at once")
		leave := f.String("leave", "", "give back an invitation of yours")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case len(args) > 1 || *leave != "" && (len(args) > 0 || *end != "") || *end != "" && len(args) == 0:
				return wrongUse("a workspace's name is wanted, and with -leave none")
			case *leave != "":
				if _, err := client.Answer[struct{}](c.LeaveInvitation(ctx, *leave)); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "You are no guest of %s any more.\n", *leave)
				return nil
			case *end != "":
				if _, err := client.Answer[struct{}](c.RemoveGuest(ctx, args[0], *end)); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "%s is no guest of %s any more.\n", *end, args[0])
				return nil
			case len(args) == 0:
				list, err := client.Answer[[]client.Invitation](c.ListInvitations(ctx))
				return present(t, *asJSON, list, err, func(list []client.Invitation) { printInvitations(t, list) })
			}
			g, err := client.Answer[client.Guests](c.ListGuests(ctx, args[0]))
			return present(t, *asJSON, g, err, func(g client.Guests) { printGuests(t, args[0], g) })
		}
	},
}

func printGuests(t *terminal, workspace string, g client.Guests) {
	if len(g.Guests) == 0 {
		fmt.Fprintf(t.out, "Nobody is invited into %s. To invite somebody: domicile invite %s PERSON\n", workspace, workspace)
	} else {
		table := newTable(t.out)
		table.row("PERSON", "MAY", "UNTIL", "CAME")
		for _, x := range g.Guests {
			came := "not yet"
			if x.Came != nil {
				came = ago(*x.Came)
			}
			table.row(x.Person, string(x.May), x.Until.Local().Format(time.DateTime), came)
		}
		table.flush()
	}
	if len(g.Changes) > 0 {
		fmt.Fprintln(t.out, "\nLast changes:")
	}
	for _, x := range g.Changes[:min(len(g.Changes), 5)] {
		by := x.By
		if by == "" {
			by = "somebody who is gone"
		}
		fmt.Fprintf(t.out, "  %s  %s %s\n", x.At.Local().Format(time.DateTime), by, x.What)
	}
}

func printInvitations(t *terminal, list []client.Invitation) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "You are invited into no workspace of others.")
		return
	}
	table := newTable(t.out)
	table.row("NAME", "STATE", "YOU MAY", "UNTIL")
	for _, x := range list {
		table.row(x.Name, string(x.State), string(x.May), x.Until.Local().Format(time.DateTime))
	}
	table.flush()
	x := list[0]
	fmt.Fprintf(t.out, "To come in: domicile shell %s\n", x.Name)
	if x.Host != nil && x.Port != nil {
		fmt.Fprintf(t.out, "With SSH:   ssh -p %d %s@%s\n", *x.Port, x.Name, *x.Host)
	}
}

// printAsGuest tells where one is a guest, below one's own workspaces.
func printAsGuest(ctx context.Context, t *terminal, c *client.Service) error {
	list, err := client.Answer[[]client.Invitation](c.ListInvitations(ctx))
	if fault.Code(err) == "no-such-path" { // an earlier version of the service
		return nil
	}
	for i, x := range list {
		if i == 0 {
			fmt.Fprintln(t.out, "\nYou are a guest in:")
		}
		fmt.Fprintf(t.out, "  %s  to %s, until %s\n", x.Name, x.May, x.Until.Local().Format(time.DateTime))
	}
	return err
}
