package main

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"strings"
	"time"

	"domicile/internal/client"
)

var webCommand = command{
	name: "web", args: "NAME [PORT [-for private|team|link [-hours N] [-password] [-local] [-protocol http|https] | -close | -open]] [-json]", summary: "Give a port of a workspace a web address, show who may use it, and change that",
	example: "domicile web timetable 8080\ndomicile web timetable 8080 -for link -hours 48\ndomicile web timetable",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		sharing := f.String("for", "", "who may use it: private (you), team (who has an account) or link (whoever has the link)")
		hours := f.Int("hours", 0, "how long a link holds (default 24)")
		password := f.Bool("password", false, "ask who comes by the link for a password, which is typed in now")
		local := f.Bool("local", false, "have the program called localhost and its own port, where it insists on that")
		protocol := f.String("protocol", "", "what the program speaks, http or https, whatever the definition says (default: what the definition says)")
		remove := f.Bool("close", false, "take the address away")
		open := f.Bool("open", false, "open it in your browser")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case len(args) == 1:
				list, err := client.Answer[[]client.WebAddress](c.ListWebAddresses(ctx, args[0]))
				return present(t, *asJSON, list, err, func(list []client.WebAddress) { printWeb(t, args[0], list) })
			case len(args) != 2:
				return wrongUse("a workspace's name is wanted, and a port")
			case *remove:
				if _, err := client.Answer[struct{}](c.CloseWebAddress(ctx, args[0], args[1])); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "Port %s of %s has no web address any more.\n", args[1], args[0])
				return nil
			case *open, *sharing == "" && !*local && *protocol == "":
				return enter(ctx, t, c, args[0], args[1], *open, *asJSON)
			}
			b := client.WebSharing{Sharing: client.WebSharingSharing(*sharing), Local: local}
			if *sharing == "" {
				b.Sharing = client.WebSharingSharingPrivate
			}
			if *protocol != "" {
				b.Protocol = new(client.WebSharingProtocol(*protocol))
			}
			if *hours > 0 {
				b.Hours = hours
			}
			if *password {
				said, err := readHidden(t, "Password of the link: ")
				if err != nil {
					return err
				}
				b.Password = &said
			}
			a, err := client.Answer[client.WebAddress](c.ShareWebAddress(ctx, args[0], args[1], b))
			return present(t, *asJSON, a, err, func(a client.WebAddress) { printShared(t, args[0], a) })
		}
	},
}

// enter makes an address by which one's own browser comes in, and prints it or opens it.
func enter(ctx context.Context, t *terminal, c *client.Service, workspace, port string, open, asJSON bool) error {
	e, err := client.Answer[client.WebEntry](c.OpenWebAddress(ctx, workspace, port))
	if err != nil {
		return err
	}
	if open {
		return browseTicket(ctx, e.Url)
	}
	if asJSON {
		return printJSON(t.out, e)
	}
	list, err := client.Answer[[]client.WebAddress](c.ListWebAddresses(ctx, workspace))
	if err != nil {
		return err
	}
	printWeb(t, workspace, list)
	fmt.Fprintf(t.out, "To come in with a browser, once and within a minute:\n  %s\n", e.Url)
	explainLocalhost(t, workspace, port, e.Url)
	return nil
}

// explainLocalhost says what to do with names below localhost, which browsers and curl resolve by themselves and
// Python, node and wget do not.
func explainLocalhost(t *terminal, workspace, port, address string) {
	if u, err := url.Parse(address); err == nil && strings.HasSuffix(u.Hostname(), ".localhost") {
		fmt.Fprintf(t.out, "Python, node and wget do not resolve names below localhost. For them:\n  domicile forward %s %s\n", workspace, port)
	}
}

func printWeb(t *terminal, workspace string, list []client.WebAddress) {
	if len(list) == 0 {
		fmt.Fprintf(t.out, "No port of %s has a web address. To give it one: domicile web %s PORT\n", workspace, workspace)
		return
	}
	table := newTable(t.out)
	table.row("PORT", "WEB ADDRESS", "FOR", "LAST CHANGE")
	for _, a := range list {
		last := "-"
		if len(a.Changes) > 0 {
			last = ago(a.Changes[0].At) + " by " + a.Changes[0].By
		}
		table.row(a.Port, a.Url, sharedWith(a), last)
	}
	table.flush()
}

// sharedWith says who may use an address.
func sharedWith(a client.WebAddress) string {
	switch a.Sharing {
	case client.WebAddressSharingTeam:
		return "the team"
	case client.WebAddressSharingLink:
		words := "who has the link"
		if a.Password {
			words += " and its password"
		}
		if a.Until != nil {
			words += ", until " + a.Until.Local().Format(time.DateTime)
		}
		return words
	}
	return "you"
}

func printShared(t *terminal, workspace string, a client.WebAddress) {
	fmt.Fprintf(t.out, "%s is for %s.\n", a.Url, sharedWith(a))
	if a.Link != nil {
		fmt.Fprintf(t.out, "The link, which is shown only now:\n  %s\n", *a.Link)
	}
	explainLocalhost(t, workspace, a.Port, a.Url)
}
