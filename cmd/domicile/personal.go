package main

import (
	"context"
	"flag"
	"fmt"

	"domicile/internal/client"
)

var personalCommand = command{
	name: "personal", args: "[SOURCE] [-none] [-json]", summary: "Show or set the repository of your own settings, put into every workspace you make",
	example: "domicile personal https://git.example.com/me/settings.git\ndomicile personal -none",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		none := f.Bool("none", false, "put nothing in any more")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) > 1 || *none && len(args) > 0 {
				return wrongUse("%q is one argument too many", args[len(args)-1])
			}
			if len(args) == 1 || *none {
				source := ""
				if !*none {
					source = folderOr(args[0])
				}
				if _, err := client.Answer[struct{}](c.SetPersonal(ctx, client.Personal{Source: source})); err != nil {
					return err
				}
			}
			account, err := client.Answer[client.Account](c.GetAccount(ctx))
			if err != nil {
				return err
			}
			switch {
			case *asJSON:
				return printJSON(t.out, client.Personal{Source: text(account.Personal)})
			case account.Personal == nil:
				fmt.Fprintln(t.out, "Nothing of your own is put into your workspaces. To change that: domicile personal SOURCE")
			default:
				fmt.Fprintf(t.out, "Every workspace that you make gets %s in ~/.personal as the last step, and its install.sh is run there.\n", *account.Personal)
			}
			return nil
		}
	},
}
