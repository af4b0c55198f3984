// Package vault opens what people keep sealed in the records: how they sign in to git
// hosts, and the secrets of their definitions. What it opens stays in memory.
package vault

import (
	"context"
	"fmt"
	"slices"

	"domicile/internal/credential"
	"domicile/internal/records"
	"domicile/internal/source"
)

// Vault opens and seals.
type Vault struct {
	Store *records.Store
	Seal  *credential.Seal
}

func hostPurpose(account int64, host string) string {
	return fmt.Sprintf("git host %d %s", account, host)
}

func secretPurpose(account int64, name, source string) string {
	return fmt.Sprintf("secret %d %s %s", account, name, source)
}

// Login is how an account signs in to a git host; nil where it does not.
func (v *Vault) Login(ctx context.Context, account int64, host string) (*source.Login, error) {
	list, err := v.Store.GitHosts(ctx, account)
	if err != nil {
		return nil, fmt.Errorf("look for the credentials of %s: %w", host, err)
	}
	var login *source.Login
	for _, g := range list {
		if g.Host != host {
			continue
		}
		secret, err := v.Seal.Open(hostPurpose(account, host), g.Secret)
		if err != nil {
			return nil, fmt.Errorf("open the credentials of %s: %w", host, err)
		}
		if login == nil {
			login = &source.Login{}
		}
		if g.IsKey {
			login.Key = secret
		} else {
			login.Username, login.Token = g.Username, secret
		}
	}
	return login, nil
}

// KeepLogin seals how an account signs in to a git host.
func (v *Vault) KeepLogin(ctx context.Context, account int64, host string, l source.Login) error {
	g := records.GitHost{Account: account, Host: host, Username: l.Username, IsKey: l.Key != ""}
	g.Secret = v.Seal.Close(hostPurpose(account, host), l.Token+l.Key)
	return v.Store.SetGitHost(ctx, g)
}

// Secrets opens those of an account's secrets for a source that have one of the names.
func (v *Vault) Secrets(ctx context.Context, account int64, source string, names []string) (map[string]string, error) {
	if len(names) == 0 {
		return nil, nil
	}
	list, err := v.Store.SecretsFor(ctx, account, source)
	if err != nil {
		return nil, fmt.Errorf("look for secrets: %w", err)
	}
	open := map[string]string{}
	for _, s := range list {
		if !slices.Contains(names, s.Name) {
			continue
		}
		if open[s.Name], err = v.Seal.Open(secretPurpose(account, s.Name, source), s.Value); err != nil {
			return nil, fmt.Errorf("open the secret %s: %w", s.Name, err)
		}
	}
	return open, nil
}

// KeepSecret seals a secret.
func (v *Vault) KeepSecret(ctx context.Context, account int64, name, source, value string) error {
	return v.Store.SetSecret(ctx, records.Secret{Account: account, Name: name, Source: source, Value: v.Seal.Close(secretPurpose(account, name, source), value)})
}
