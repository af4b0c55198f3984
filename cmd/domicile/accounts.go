package main

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"

	"domicile/internal/client"
)

var accountsCommand = command{
	name: "accounts", args: "[add|password|lock|unlock|remove NAME] [-json]", summary: "List accounts; make, lock or remove one, or give it another password (administrators only)",
	example: "domicile accounts add finn\ndomicile accounts lock finn",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				return listAccounts(ctx, t, c, *asJSON)
			}
			if err := exactly(args[1:], "NAME"); err != nil {
				return err
			}
			return changeAccount(ctx, t, c, args[0], args[1], *asJSON)
		}
	},
}

func listAccounts(ctx context.Context, t *terminal, c *client.Service, asJSON bool) error {
	list, err := client.Answer[[]client.Account](c.ListAccounts(ctx))
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, list)
	}
	table := newTable(t.out)
	table.row("ID", "NAME", "ROLE", "")
	for _, a := range list {
		role, locked := "member", ""
		if a.Admin {
			role = "administrator"
		}
		if a.Locked {
			locked = "locked"
		}
		table.row(strconv.FormatInt(a.Id, 10), a.Name, role, locked)
	}
	table.flush()
	return nil
}

func changeAccount(ctx context.Context, t *terminal, c *client.Service, what, name string, asJSON bool) error {
	done := func(r *http.Response, err error) error {
		_, err = client.Answer[struct{}](r, err)
		return err
	}
	var said string
	switch what {
	case "add":
		password, err := newPassword(t, name)
		if err != nil {
			return err
		}
		a, err := client.Answer[client.Account](c.AddAccount(ctx, client.NewAccount{Name: name, Password: password}))
		if err != nil {
			return err
		}
		if asJSON {
			return printJSON(t.out, a)
		}
		said = fmt.Sprintf("The account %s is made. Signing in: domicile login -server %s -name %s", a.Name, c.URL, a.Name)
	case "password":
		password, err := newPassword(t, name)
		if err != nil {
			return err
		}
		if err := done(c.ResetPassword(ctx, name, client.NewPassword{Password: password})); err != nil {
			return err
		}
		said = fmt.Sprintf("The account %s has another password; its sessions and tokens have ended.", name)
	case "lock", "unlock":
		if err := done(c.LockAccount(ctx, name, client.Locked{Locked: what == "lock"})); err != nil {
			return err
		}
		said = fmt.Sprintf("The account %s is locked: nobody signs in to it, and its connections have ended. To open it again: domicile accounts unlock %s", name, name)
		if what == "unlock" {
			said = fmt.Sprintf("The account %s is open again.", name)
		}
	case "remove":
		if err := done(c.RemoveAccount(ctx, name)); err != nil {
			return err
		}
		said = fmt.Sprintf("The account %s is signed out, and is removed with its workspaces, snapshots, keys and secrets.", name)
	default:
		return wrongUse("%q is none of add, password, lock, unlock, remove", what)
	}
	fmt.Fprintln(t.out, said)
	return nil
}

// newPassword asks on a terminal, or takes the first line of standard input.
func newPassword(t *terminal, name string) (string, error) {
	return readHidden(t, "Password for "+name+": ")
}

var passwordCommand = command{
	name: "password", args: "", summary: "Change your password; your other sessions and tokens end",
	example: "domicile password",
	setup: func(*flag.FlagSet) action {
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			lines := answersOf(t)
			current, err := lines.hidden("Password until now: ")
			if err != nil {
				return err
			}
			next, err := lines.hidden("Password from now on: ")
			if err != nil {
				return err
			}
			if _, err := client.Answer[struct{}](c.SetPassword(ctx, client.PasswordChange{Current: current, Password: next})); err != nil {
				return err
			}
			fmt.Fprintln(t.out, "Your password is changed. Your other sessions and tokens have ended.")
			return nil
		}
	},
}

var tokensCommand = command{
	name: "tokens", args: "[add LABEL [-days N] | remove ID] [-json]", summary: "List, make and take back tokens, by which programs sign in as you",
	example: "domicile tokens add nightly -days 30",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		days := f.Int("days", 90, "for how many days a new token counts, at most 366")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			switch {
			case len(args) == 0:
				return listTokens(ctx, t, c, *asJSON)
			case args[0] == "add":
				if err := exactly(args[1:], "LABEL"); err != nil {
					return err
				}
				made, err := client.Answer[client.Token](c.AddToken(ctx, client.NewToken{Label: args[1], Days: days}))
				if err != nil {
					return err
				}
				if *asJSON {
					return printJSON(t.out, made)
				}
				fmt.Fprintf(t.out, "%s\nThis is shown once. To sign in with it: echo TOKEN | domicile login -server %s\n", made.Token, c.URL)
				return nil
			case args[0] == "remove":
				if err := exactly(args[1:], "ID"); err != nil {
					return err
				}
				id, err := strconv.ParseInt(args[1], 10, 64)
				if err != nil {
					return wrongUse("%q is no token's number", args[1])
				}
				if _, err := client.Answer[struct{}](c.RemoveToken(ctx, id)); err != nil {
					return err
				}
				fmt.Fprintf(t.out, "The token %d counts no more.\n", id)
				return nil
			}
			return wrongUse("%q is neither add nor remove", args[0])
		}
	},
}

func listTokens(ctx context.Context, t *terminal, c *client.Service, asJSON bool) error {
	list, err := client.Answer[[]client.TokenInfo](c.ListTokens(ctx))
	if err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, list)
	}
	table := newTable(t.out)
	table.row("ID", "LABEL", "USED", "COUNTS UNTIL", "")
	for _, k := range list {
		used, this := "never", ""
		if k.LastUsed != nil {
			used = ago(*k.LastUsed)
		}
		if k.Current {
			this = "this one"
		}
		table.row(strconv.FormatInt(k.Id, 10), k.Label, used, k.Expires.Local().Format("2006-01-02"), this)
	}
	table.flush()
	return nil
}

var signInsCommand = command{
	name: "sign-ins", args: "[-json]", summary: "Show who signed in lately, or tried to, and from where",
	example: "domicile sign-ins",
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			list, err := client.Answer[[]client.SignIn](c.ListSignIns(ctx))
			if err != nil {
				return err
			}
			if *asJSON {
				return printJSON(t.out, list)
			}
			words := map[client.SignInOutcome]string{"in": "signed in", "wrong": "wrong password", "slowed": "refused, too many tries", "locked": "the account is locked"}
			table := newTable(t.out)
			table.row("WHEN", "NAME", "FROM", "")
			for _, s := range list {
				table.row(ago(s.At), s.Name, s.Address, words[s.Outcome])
			}
			table.flush()
			return nil
		}
	},
}
