package records

import (
	"context"
	"time"
)

// GitHost is how an account signs in to a git host: by a token, or by an SSH key.
type GitHost struct {
	Account  int64
	Host     string
	Username string
	IsKey    bool
	Secret   []byte // sealed
	Created  time.Time
}

// SetGitHost keeps how an account signs in, in place of what it had of that kind.
func (q Queries) SetGitHost(ctx context.Context, g GitHost) error {
	_, err := q.db.Exec(ctx, `INSERT INTO git_hosts (account, host, username, is_key, secret) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (account, host, is_key) DO UPDATE SET username = $3, secret = $5, created = now()`, g.Account, g.Host, g.Username, g.IsKey, g.Secret)
	return err
}

// GitHosts lists those of an account.
func (q Queries) GitHosts(ctx context.Context, account int64) ([]GitHost, error) {
	return many[GitHost](ctx, q.db, "SELECT account, host, username, is_key, secret, created FROM git_hosts WHERE account = $1 ORDER BY host, is_key", account)
}

// RemoveGitHost forgets how an account signs in to a host.
func (q Queries) RemoveGitHost(ctx context.Context, account int64, host string) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM git_hosts WHERE account = $1 AND host = $2", account, host)
}
