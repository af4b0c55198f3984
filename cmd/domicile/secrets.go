package main

import (
	"context"
	"flag"
	"fmt"
	"io"

	"domicile/internal/client"
)

var secretsCommand = command{
	name: "secrets", args: "[set NAME -for SOURCE | remove NAME -for SOURCE] [-json]", summary: "List, set and remove secrets that definitions of a source may use",
	example: "domicile secrets set TIDE_TOKEN -for https://git.example.com/skerry/tides.git < token-file",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		source := f.String("for", "", "the source whose definitions get it")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				list, err := client.Answer[[]client.Secret](c.ListSecrets(ctx))
				return present(t, *asJSON, list, err, func(list []client.Secret) { printSecrets(t, list) })
			}
			if err := exactly(args[1:], "NAME"); err != nil {
				return err
			}
			if *source == "" {
				return wrongUse("-for is missing: a secret is given only to definitions of the source that you name")
			}
			name, of := args[1], folderOr(*source)
			said := "Definitions of %s may use %s, in the commands from postCreateCommand on. Nobody sees it again.\n"
			switch args[0] {
			case "set":
				value, err := readSecret(t, "Value of "+name+": ")
				if err != nil {
					return err
				}
				if _, err := client.Answer[struct{}](c.SetSecret(ctx, name, client.SecretValue{Source: of, Value: value})); err != nil {
					return err
				}
			case "remove":
				if _, err := client.Answer[struct{}](c.RemoveSecret(ctx, name, &client.RemoveSecretParams{Source: of})); err != nil {
					return err
				}
				said = "Definitions of %s do not get %s any more. Workspaces that run keep what they have of it.\n"
			default:
				return wrongUse("%q is neither set nor remove", args[0])
			}
			return present(t, *asJSON, client.Secret{Name: name, Source: of}, nil, func(client.Secret) { fmt.Fprintf(t.out, said, of, name) })
		}
	},
}

func printSecrets(t *terminal, list []client.Secret) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "You keep no secrets. To keep one: domicile secrets set NAME -for SOURCE")
		return
	}
	table := newTable(t.out)
	table.row("SECRET", "FOR", "SINCE")
	for _, s := range list {
		table.row(s.Name, s.Source, ago(s.Created))
	}
	table.flush()
}

var githostsCommand = command{
	name: "githosts", args: "[add HOST (-user NAME | -key FILE) | remove HOST] [-json]", summary: "List, add and remove how you sign in to git hosts",
	example: "domicile githosts add git.example.com -user skerry < token-file\ndomicile githosts add git.example.com -key ~/.ssh/only_for_domicile",
	takes:   anything,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		user := f.String("user", "", "the name that goes with the token (default: git)")
		key := f.String("key", "", "a file with an SSH private key without a passphrase, in place of a token")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if len(args) == 0 {
				list, err := client.Answer[[]client.GitHost](c.ListGitHosts(ctx))
				return present(t, *asJSON, list, err, func(list []client.GitHost) { printGitHosts(t, list) })
			}
			if err := exactly(args[1:], "HOST"); err != nil {
				return err
			}
			said := "The service signs in to %s for you.\n"
			switch args[0] {
			case "add":
				login, err := gitLogin(t, *user, *key)
				if err != nil {
					return err
				}
				if _, err := client.Answer[struct{}](c.SetGitHost(ctx, args[1], login)); err != nil {
					return err
				}
			case "remove":
				if _, err := client.Answer[struct{}](c.RemoveGitHost(ctx, args[1])); err != nil {
					return err
				}
				said = "The service does not sign in to %s for you any more.\n"
			default:
				return wrongUse("%q is neither add nor remove", args[0])
			}
			return present(t, *asJSON, map[string]string{"host": args[1]}, nil, func(map[string]string) { fmt.Fprintf(t.out, said, args[1]) })
		}
	},
}

// maxKey bounds what is read of a key's file.
const maxKey = 64 << 10

func gitLogin(t *terminal, user, key string) (login client.GitHostLogin, err error) {
	if key == "" {
		token, err := readHidden(t, "Token of the git host: ")
		return client.GitHostLogin{Username: given(user), Token: &token}, err
	}
	file, err := openFile(key)
	if err != nil {
		return login, err
	}
	defer file.Close()
	b, err := io.ReadAll(io.LimitReader(file, maxKey))
	if err != nil {
		return login, fmt.Errorf("read the key: %w", err)
	}
	return client.GitHostLogin{Key: new(string(b))}, nil
}

func printGitHosts(t *terminal, list []client.GitHost) {
	if len(list) == 0 {
		fmt.Fprintln(t.out, "You sign in to no git host; repositories that are open to all need none. To add one: domicile githosts add HOST")
		return
	}
	table := newTable(t.out)
	table.row("GIT HOST", "BY", "SINCE")
	for _, g := range list {
		by := "token of " + g.Username
		if g.Key {
			by = "SSH key"
		}
		table.row(g.Host, by, ago(g.Created))
	}
	table.flush()
}

var authorCommand = command{
	name: "author", args: "[-name NAME] [-mail ADDRESS] [-json]", summary: "Show or set whose commits are made in your workspaces",
	example: `domicile author -name "Ada Skipper" -mail ada@skerry.test`,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		name := f.String("name", "", "the author's name")
		mail := f.String("mail", "", "the author's mail address")
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			account, err := client.Answer[client.Account](c.GetAccount(ctx))
			if err != nil {
				return err
			}
			author := client.Author{Name: text(account.AuthorName), Mail: text(account.AuthorMail)}
			if *name != "" || *mail != "" {
				if *name != "" {
					author.Name = *name
				}
				if *mail != "" {
					author.Mail = *mail
				}
				if _, err := client.Answer[struct{}](c.SetAuthor(ctx, author)); err != nil {
					return err
				}
			}
			return present(t, *asJSON, author, nil, func(a client.Author) {
				if a.Name == "" && a.Mail == "" {
					fmt.Fprintln(t.out, "Nobody is named. To change that: domicile author -name NAME -mail ADDRESS")
					return
				}
				fmt.Fprintf(t.out, "Commits in workspaces that you make are by %s <%s>.\n", a.Name, a.Mail)
			})
		}
	},
}
