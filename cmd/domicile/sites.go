package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"domicile/internal/client"
	"domicile/internal/fault"
)

var sitesCommand = command{
	name: "sites", args: "[add NAME ADDRESS [-through ADDRESSES | -key FILE] | examine NAME | change NAME | trust NAME | drain NAME | reopen NAME | remove NAME] [FLAGS]", summary: "List the sites; add hosts that are reached over SSH and providers of rented instances, examine, change, drain and remove them",
	example: "domicile sites\ndomicile sites add skiff ssh://crew@skiff.example.com\ndomicile sites add rented https://cloud.example.com/north -key account.key\ndomicile sites examine skiff\ndomicile sites change skiff -allow devices -sizes small=1:1gb:0.01EUR -size small\ndomicile sites change skiff -copies 6h@this-host",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		wait := f.Duration("wait", 5*time.Minute, "how long adding one waits until the host lets the service in; 0: it does not")
		through := f.String("through", "", "adding one: the hosts that lead there, the nearest first: ssh://USER@HOST:PORT, with commas between")
		allow := f.String("allow", "", "changing one: what definitions may ask for there, with commas between; none: nothing; service: what the service allows")
		sizes := f.String("sizes", "", "changing one: its sizes, as NAME=PROCESSORS:MEMORY:PRICE-AN-HOUR, with commas between; service: those of the service")
		most := f.String("most", "", "changing one: how many workspaces may run there at a time; none: as many as there is room for")
		copies := f.String("copies", "", "changing one: how often copies of its workspaces are kept, and at which other site, as EVERY@SITE; none: no copies")
		key := f.String("key", "", "adding a provider, or changing it: the file with the key of the account there; -: standard input")
		size := f.String("size", "", "changing one: the size of a workspace that asks for none; none: no limits; service: that of the service")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				return listSites(ctx, t, c, *asJSON)
			}
			wants := []string{"NAME"}
			switch args[0] {
			case "add":
				wants = append(wants, "ADDRESS")
			case "examine", "change", "trust", "drain", "reopen", "remove":
			default:
				return wrongUse("%q is none of add, examine, change, trust, drain, reopen and remove", args[0])
			}
			if err := exactly(args[1:], wants...); err != nil {
				return err
			}
			var err error
			switch name := args[1]; args[0] {
			case "add":
				if strings.HasPrefix(args[2], "http") {
					return addProvider(ctx, t, c, name, args[2], *key, *asJSON)
				}
				return addSite(ctx, t, c, client.NewSite{Name: name, Address: args[2], Through: given(*through)}, *wait, *asJSON)
			case "examine":
				return examineSite(ctx, t, c, name, *asJSON)
			case "change":
				change := client.SiteSettings{Allow: given(*allow), Sizes: given(*sizes), Size: given(*size), Most: given(*most), Copies: given(*copies)}
				if *key != "" {
					if change.Key, err = readKey(t, *key); err != nil {
						return err
					}
				}
				if change == (client.SiteSettings{}) {
					return wrongUse("say what is to be another there: -allow, -sizes, -size, -most, -copies or -key")
				}
				_, err = client.Answer[struct{}](c.ChangeSite(ctx, name, change))
			case "trust":
				answer, err := client.Answer[client.HostTrust](c.TrustHost(ctx, name))
				return present(t, *asJSON, answer, err, func(v client.HostTrust) { printTrust(t, v) })
			case "drain", "reopen":
				_, err = client.Answer[struct{}](c.DrainSite(ctx, name, client.Drained{Drained: args[0] == "drain"}))
			case "remove":
				_, err = client.Answer[struct{}](c.RemoveSite(ctx, name))
			}
			if err != nil {
				return err
			}
			return listSites(ctx, t, c, *asJSON)
		}
	},
}

func listSites(ctx context.Context, t *terminal, c *client.Service, asJSON bool) error {
	list, err := client.Answer[[]client.Site](c.ListSites(ctx))
	return present(t, asJSON, list, err, func(list []client.Site) { printSites(t, list) })
}

// addProvider adds a site of rented instances.
func addProvider(ctx context.Context, t *terminal, c *client.Service, name, address, file string, asJSON bool) error {
	if file == "" {
		return wrongUse("-key is missing: the file with the key of the account at the provider")
	}
	key, err := readKey(t, file)
	if err != nil {
		return err
	}
	list, err := client.Answer[[]client.Finding](c.AddProvider(ctx, client.NewProvider{Name: name, Address: address, Key: *key}))
	if err != nil {
		return err
	}
	return presentFindings(t, name, list, asJSON)
}

// mostKey bounds a key, in bytes.
const mostKey = 4 << 10

// readKey reads the key of an account, which is not given where others see it.
func readKey(t *terminal, file string) (*string, error) {
	in := t.in
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, fmt.Errorf("read the key: %w", err)
		}
		defer f.Close()
		in = f
	}
	b, err := io.ReadAll(io.LimitReader(in, mostKey))
	if err != nil {
		return nil, fmt.Errorf("read the key: %w", err)
	}
	key := strings.TrimSpace(string(b))
	if key == "" {
		return nil, wrongUse("-key %s: there is no key in it", file)
	}
	return &key, nil
}

// addEvery is how often it is looked whether a host lets the service in.
const addEvery = 2 * time.Second

// addSite adds a host, says what it needs, and waits until it lets the service in.
func addSite(ctx context.Context, t *terminal, c *client.Service, q client.NewSite, wait time.Duration, asJSON bool) error {
	v, err := client.Answer[client.HostTrust](c.AddSite(ctx, q))
	if err != nil {
		return err
	}
	for _, h := range orNothing(v.Through) {
		fmt.Fprintf(t.err, "The host %s on the way is known by %s now.\n", h.Host, h.Fingerprint)
	}
	fmt.Fprintf(t.err, "The host shows the key %s, which is pinned now. Compare it there:\n  ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub\nThe user there needs this line in ~/.ssh/authorized_keys:\n  %s\n", v.Fingerprint, v.Install)
	if wait <= 0 {
		return present(t, asJSON, v, nil, func(client.HostTrust) {})
	}
	fmt.Fprintf(t.err, "Waiting for it, up to %s …\n", wait)
	for over := time.After(wait); ; {
		list, err := client.Answer[[]client.Finding](c.ExamineSite(ctx, q.Name))
		switch {
		case err == nil:
			return presentFindings(t, q.Name, list, asJSON)
		case fault.Code(err) != "key-not-installed" && fault.Code(err) != "host-away":
			return err
		}
		select {
		case <-time.After(addEvery):
		case <-over:
			return err // what it waits for still
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func examineSite(ctx context.Context, t *terminal, c *client.Service, name string, asJSON bool) error {
	list, err := client.Answer[[]client.Finding](c.ExamineSite(ctx, name))
	if err != nil {
		return err
	}
	return presentFindings(t, name, list, asJSON)
}

// presentFindings shows what was found; something that is not fine is exit status 1.
func presentFindings(t *terminal, name string, list []client.Finding, asJSON bool) error {
	wrong := 0
	table := newTable(t.out)
	table.row("WHAT", "", "FOUND", "WANTED")
	for _, f := range list {
		mark := "fine"
		if !f.Fine {
			mark, wrong = "not fine", wrong+1
		}
		table.row(f.What, mark, f.Found, orDash(text(f.Wanted)))
	}
	if asJSON {
		if err := printJSON(t.out, list); err != nil {
			return err
		}
	} else {
		table.flush()
		for _, f := range list {
			if f.Remedy != nil {
				fmt.Fprintf(t.out, "%s: %s\n", f.What, fault.ToDo(*f.Remedy))
			}
		}
		if wrong == 0 {
			fmt.Fprintf(t.out, "%s can hold workspaces: domicile provision SOURCE -site %s\n", name, name)
		}
	}
	if wrong > 0 {
		return exitStatus(1)
	}
	return nil
}
