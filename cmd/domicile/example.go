package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
)

var exampleCommand = command{
	name: "example", args: "[-json]", summary: "Have the service make a small repository to try it with, which needs no network",
	example: "domicile example",
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, _ []string) error {
			x, err := client.Answer[client.Example](c.MakeExample(ctx))
			if err != nil {
				return err
			}
			if *asJSON {
				return printJSON(t.out, x)
			}
			fmt.Fprintf(t.out, "The example is in %s of the service's host. To make a workspace of it: domicile provision %s -name first\n", x.Source, x.Source)
			return nil
		}
	},
}
