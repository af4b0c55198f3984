package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
)

var registriesCommand = command{
	name: "registries", args: "[add HOST -user NAME | remove HOST] [-json]", summary: "List, add and remove the service's credentials of registries",
	example: "domicile registries add registry.example.com -user skerry < password-file",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		user := f.String("user", "", "the name to sign in to the registry with")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				return listRegistries(ctx, t, c, *asJSON)
			}
			if err := exactly(args[1:], "HOST"); err != nil {
				return err
			}
			said := "The service has no credentials of %s any more.\n"
			switch args[0] {
			case "add":
				if *user == "" {
					return wrongUse("-user is missing")
				}
				password, err := readHidden(t, "Password or token of the registry: ")
				if err != nil {
					return err
				}
				if _, err := client.Answer[struct{}](c.SetRegistry(ctx, args[1], client.RegistryCredentials{Username: *user, Password: password})); err != nil {
					return err
				}
				said = "The service signs in to %s as " + *user + ".\n"
			case "remove":
				if _, err := client.Answer[struct{}](c.RemoveRegistry(ctx, args[1])); err != nil {
					return err
				}
			default:
				return wrongUse("%q is neither add nor remove", args[0])
			}
			if *asJSON {
				return listRegistries(ctx, t, c, true)
			}
			fmt.Fprintf(t.out, said, args[1])
			return nil
		}
	},
}

func listRegistries(ctx context.Context, t *terminal, c *client.Service, asJSON bool) error {
	list, err := client.Answer[[]client.Registry](c.ListRegistries(ctx))
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, list)
	}
	if len(list) == 0 {
		fmt.Fprintln(t.out, "The service has credentials of no registry; those that need none work all the same.")
		return nil
	}
	table := newTable(t.out)
	table.row("REGISTRY", "SIGNS IN AS", "SINCE")
	for _, r := range list {
		table.row(r.Host, r.Username, ago(r.Created))
	}
	table.flush()
	return nil
}
