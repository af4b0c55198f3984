package main

import (
	"bufio"
	"context"
	"flag"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	contract "domicile/api"
	"domicile/internal/client"
	"domicile/internal/fault"
)

var loginCommand = command{
	name: "login", args: "[-server URL] [-name NAME] [-plain-http] [-json]", summary: "Sign in to a service, with name and password or with a token on standard input",
	example: "domicile login -server http://127.0.0.1:4380",
	alone:   true,
	setup: func(f *flag.FlagSet) action {
		server := f.String("server", "", "the service's address (default: the last one, or "+defaultServer+")")
		name := f.String("name", "", "your account's name")
		plain := f.Bool("plain-http", false, "send password and token unencrypted to another machine: everybody between can read them")
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			last, err := loadSignIn()
			if err != nil {
				last = signIn{Server: defaultServer} // it is written anew
			}
			if *server != "" {
				last.Server = *server
			}
			if !*plain && !client.IsPrivate(last.Server) {
				return fault.New("not-private", "domicile login -server https://HOST", "%s is another machine and reached without TLS: everybody between could read the password (-plain-http allows it)", last.Server)
			}
			return login(ctx, t, last.Server, *name, *asJSON)
		}
	},
}

// login asks for name and password on a terminal, or reads a token from standard input.
func login(ctx context.Context, t *terminal, server, name string, asJSON bool) error {
	file, interactive := fileOf(t.in)
	if !interactive {
		line, err := bufio.NewReader(t.in).ReadString('\n')
		token := strings.TrimSpace(line)
		if token == "" {
			return fmt.Errorf("standard input is no terminal and holds no token: %w", err)
		}
		err = signInWith(ctx, t, server, token, asJSON)
		if fault.Code(err) == "not-signed-in" {
			err = fault.New("not-signed-in", "domicile tokens add makes a token; a password is typed in at a terminal", "what standard input holds is no valid token")
		}
		return err
	}
	c, err := client.Open(server, "")
	if err != nil {
		return err
	}
	if name == "" {
		fmt.Fprint(t.err, "Name: ")
		line, err := bufio.NewReader(t.in).ReadString('\n')
		if err != nil {
			return fmt.Errorf("read the name: %w", err)
		}
		name = strings.TrimSpace(line)
	}
	password, err := askPassword(t, file, "Password: ")
	if err != nil {
		return err
	}
	host, _ := os.Hostname()
	answer, err := client.Answer[client.Token](c.SignIn(ctx, client.Credentials{Name: name, Password: password, Label: new("command line on " + host)}))
	if err != nil {
		return err
	}
	return signInWith(ctx, t, server, answer.Token, asJSON)
}

func askPassword(t *terminal, file *os.File, prompt string) (string, error) {
	fmt.Fprint(t.err, prompt)
	b, err := term.ReadPassword(int(file.Fd()))
	fmt.Fprintln(t.err)
	if err != nil {
		return "", fmt.Errorf("read the password: %w", err)
	}
	return string(b), nil
}

func signInWith(ctx context.Context, t *terminal, server, token string, asJSON bool) error {
	c, err := client.Open(server, token)
	if err != nil {
		return err
	}
	account, err := client.Answer[client.Account](c.GetAccount(ctx))
	if err != nil {
		return err
	}
	if err := (signIn{Server: c.URL, Token: token}).save(); err != nil {
		return err
	}
	if asJSON {
		return printJSON(t.out, struct {
			Server  string         `json:"server"`
			Account client.Account `json:"account"`
		}{c.URL, account})
	}
	fmt.Fprintf(t.out, "Signed in to %s as %s.\n", c.URL, account.Name)
	return nil
}

var logoutCommand = command{
	name: "logout", args: "", summary: "Sign out and forget the token",
	example: "domicile logout",
	setup: func(f *flag.FlagSet) action {
		return func(ctx context.Context, t *terminal, c *client.Service, args []string) error {
			if _, err := client.Answer[struct{}](c.SignOut(ctx)); err != nil {
				return err
			}
			path, err := signInFile()
			if err != nil {
				return err
			}
			if err := os.Remove(path); err != nil && !os.IsNotExist(err) {
				return fmt.Errorf("forget the token: %w", err)
			}
			fmt.Fprintf(t.out, "Signed out of %s.\n", c.URL)
			return nil
		}
	},
}

var versionCommand = command{
	name: "version", args: "[-json]", summary: "Tell the versions of the command line and of the service",
	example: "domicile version",
	alone:   true,
	setup: func(f *flag.FlagSet) action {
		asJSON := jsonFlag(f)
		return func(ctx context.Context, t *terminal, _ *client.Service, args []string) error {
			answer := struct {
				CommandLine string `json:"commandLine"`
				Server      string `json:"server,omitempty"`
				Service     string `json:"service,omitempty"`
				SSH         string `json:"ssh,omitempty"`
				Problem     string `json:"problem,omitempty"`
				Unfit       string `json:"unfit,omitempty"` // why the two do not fit
			}{CommandLine: version}
			s, err := loadSignIn()
			if err == nil {
				answer.Server = s.Server
				var c *client.Service
				if c, err = client.Open(s.Server, ""); err == nil {
					var v client.Version
					if v, err = client.Answer[client.Version](c.GetVersion(ctx)); err == nil {
						answer.Service, answer.SSH, answer.Unfit = v.Version, v.Ssh, unfit(v, c.URL)
					}
				}
			}
			if err != nil {
				answer.Problem = err.Error()
			}
			if *asJSON {
				return printJSON(t.out, answer)
			}
			fmt.Fprintf(t.out, "command line %s\n", answer.CommandLine)
			if answer.Problem != "" {
				fmt.Fprintf(t.out, "service      %s\n", answer.Problem)
				return nil
			}
			fmt.Fprintf(t.out, "service      %s at %s, SSH at %s\n", answer.Service, answer.Server, answer.SSH)
			if answer.Unfit != "" {
				fmt.Fprintf(t.out, "These do not fit: %s\n", answer.Unfit)
			}
			return nil
		}
	},
}

// unfit tells why this command line and a service do not fit; "" where they do.
func unfit(v client.Version, at string) string {
	if v.Contract == contract.Version {
		return ""
	}
	theirs := v.Contract
	if theirs == "" {
		theirs = "an earlier one"
	}
	return fmt.Sprintf("the service speaks contract %s, and this command line %s. One that fits is at %s/clients", theirs, contract.Version, at)
}
