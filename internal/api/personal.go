package api

import (
	"context"
	"errors"
	"net/mail"
	"regexp"
	"strings"

	"domicile/internal/fault"
	"domicile/internal/mask"
	"domicile/internal/records"
	"domicile/internal/source"
)

// SetAuthor keeps whose commits are made in the account's workspaces.
func (s *Server) SetAuthor(ctx context.Context, q SetAuthorRequestObject) (SetAuthorResponseObject, error) {
	name, address := strings.TrimSpace(q.Body.Name), strings.TrimSpace(q.Body.Mail)
	if strings.ContainsAny(name, "<>\n\r\x00") || len(name) > 200 {
		return nil, fault.New("bad-name", "give it as it is to stand in commits, without < and >", "%q cannot be an author's name", name)
	}
	if parsed, err := mail.ParseAddress(address); address != "" && (err != nil || parsed.Address != address) {
		return nil, fault.New("bad-mail", "give one such as name@example.com", "%q is no mail address", address)
	}
	return SetAuthor204Response{}, s.o.Store.SetAuthor(ctx, account(ctx).ID, name, address)
}

// ListGitHosts lists the git hosts that the account signs in to.
func (s *Server) ListGitHosts(ctx context.Context, _ ListGitHostsRequestObject) (ListGitHostsResponseObject, error) {
	list, err := s.o.Store.GitHosts(ctx, account(ctx).ID)
	return ListGitHosts200JSONResponse(each(list, func(g records.GitHost) GitHost {
		return GitHost{Host: g.Host, Username: g.Username, Key: g.IsKey, Created: g.Created}
	})), err
}

// SetGitHost keeps how the account signs in to a git host.
func (s *Server) SetGitHost(ctx context.Context, q SetGitHostRequestObject) (SetGitHostResponseObject, error) {
	host := strings.ToLower(q.Host)
	if !registryHost.MatchString(host) {
		return nil, fault.New("bad-name", "give it as in an address, such as git.example.com or 127.0.0.1:3000", "%q is no git host", q.Host)
	}
	login := source.Login{Username: value(q.Body.Username), Token: value(q.Body.Token), Key: value(q.Body.Key)}
	switch {
	case (login.Token == "") == (login.Key == ""):
		return nil, fault.New("bad-request", "give one of them", "One signs in to a git host by a token or by an SSH key")
	case login.Key != "":
		if err := source.CheckKey(login.Key); err != nil {
			return nil, err
		}
	case strings.ContainsAny(login.Username+login.Token, "\n\r\x00") || strings.Contains(login.Username, ":"):
		return nil, fault.New("bad-request", "give name and token as the git host showed them", "The name or the token has a character that none can have")
	}
	if len(host) > maxLabel || len(login.Username) > maxSecret || len(login.Token) > maxSecret || len(login.Key) > maxSecret {
		return nil, fault.New("bad-request", "give a shorter one", "A host has at most %d characters, a name, token or key %d bytes", maxLabel, maxSecret)
	}
	list, err := s.o.Store.GitHosts(ctx, account(ctx).ID)
	if err := roomFor(list, err, maxGitHosts, "git hosts", "domicile githosts remove HOST"); err != nil {
		return nil, err
	}
	return SetGitHost204Response{}, s.o.Vault.KeepLogin(ctx, account(ctx).ID, host, login)
}

// RemoveGitHost forgets how the account signs in to a git host.
func (s *Server) RemoveGitHost(ctx context.Context, q RemoveGitHostRequestObject) (RemoveGitHostResponseObject, error) {
	err := s.o.Store.RemoveGitHost(ctx, account(ctx).ID, q.Host)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("not-found", "domicile githosts lists them", "You do not sign in to %s", q.Host)
	}
	return RemoveGitHost204Response{}, err
}

// ListSecrets lists the account's secrets without their values.
func (s *Server) ListSecrets(ctx context.Context, _ ListSecretsRequestObject) (ListSecretsResponseObject, error) {
	list, err := s.o.Store.Secrets(ctx, account(ctx).ID)
	return ListSecrets200JSONResponse(each(list, func(v records.Secret) Secret {
		return Secret{Name: v.Name, Source: v.Source, Created: v.Created}
	})), err
}

var secretName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,99}$`)

const maxSecret = 64 << 10

// SetSecret keeps a secret for definitions of one source.
func (s *Server) SetSecret(ctx context.Context, q SetSecretRequestObject) (SetSecretResponseObject, error) {
	if !secretName.MatchString(q.Name) {
		return nil, fault.New("bad-name", "use letters, digits and _, as for a variable of the environment", "%q cannot be a secret's name", q.Name)
	}
	if len(q.Body.Source) > maxSource {
		return nil, fault.New("bad-source", "give a shorter one", "The source has more than %d characters", maxSource)
	}
	address, err := source.Parse(q.Body.Source)
	if err != nil {
		return nil, err
	}
	if n := len(q.Body.Value); n < mask.Shortest || n > maxSecret || strings.Contains(q.Body.Value, "\x00") {
		return nil, fault.New("bad-secret", "give a longer one", "A secret has %d to %d bytes: a shorter one could not be kept out of logs", mask.Shortest, maxSecret)
	}
	list, err := s.o.Store.Secrets(ctx, account(ctx).ID)
	if err := roomFor(list, err, maxSecrets, "secrets", "domicile secrets remove NAME"); err != nil {
		return nil, err
	}
	return SetSecret204Response{}, s.o.Vault.KeepSecret(ctx, account(ctx).ID, q.Name, address.String(), q.Body.Value)
}

// RemoveSecret forgets a secret.
func (s *Server) RemoveSecret(ctx context.Context, q RemoveSecretRequestObject) (RemoveSecretResponseObject, error) {
	err := s.o.Store.RemoveSecret(ctx, account(ctx).ID, q.Name, q.Params.Source)
	if errors.Is(err, records.ErrNotFound) {
		err = fault.New("not-found", "domicile secrets lists yours", "You keep no secret %s for %s", q.Name, q.Params.Source)
	}
	return RemoveSecret204Response{}, err
}
