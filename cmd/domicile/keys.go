package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"

	"domicile/internal/client"
)

var keysCommand = command{
	name: "keys", args: "[add FILE | remove ID] [-json]", summary: "List, add and remove your SSH public keys",
	example: "domicile keys add ~/.ssh/id_ed25519.pub",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case len(args) == 0:
				return listKeys(ctx, t, c, *asJSON)
			case args[0] == "add":
				if err := exactly(args[1:], "FILE"); err != nil {
					return err
				}
				return addKey(ctx, t, c, args[1], *asJSON)
			case args[0] == "remove":
				if err := exactly(args[1:], "ID"); err != nil {
					return err
				}
				id, err := strconv.ParseInt(args[1], 10, 64)
				if err != nil {
					return wrongUse("%q is no key's number; domicile keys lists them", args[1])
				}
				if _, err := client.Answer[struct{}](c.RemoveKey(ctx, id)); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "Key %d is removed.\n", id)
				return nil
			}
			return wrongUse("%q is neither add nor remove", args[0])
		}
	},
}

func listKeys(ctx context.Context, t *terminal, c *client.Service, asJSON bool) error {
	list, err := client.Answer[[]client.Key](c.ListKeys(ctx))
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(t.out, "You have no key yet. To add one: domicile keys add ~/.ssh/id_ed25519.pub")
		return nil
	}
	table := newTable(t.out)
	table.row("ID", "KIND", "FINGERPRINT", "COMMENT", "ADDED")
	for _, k := range list {
		table.row(strconv.FormatInt(k.Id, 10), k.Kind, k.Fingerprint, k.Comment, ago(k.Created))
	}
	table.flush()
	return nil
}

func addKey(ctx context.Context, t *terminal, c *client.Service, file string, asJSON bool) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read the key: %w", err)
	}
	if strings.Contains(string(b), "PRIVATE KEY") {
		return fmt.Errorf("%s is a private key, which must stay with you; give the file that ends in .pub", file)
	}
	k, err := client.Answer[client.Key](c.AddKey(ctx, client.NewKey{PublicKey: string(b)}))
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, k)
	}
	fmt.Fprintf(t.out, "Key %d is added: %s %s\n", k.Id, k.Fingerprint, k.Comment)
	return nil
}
