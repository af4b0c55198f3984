package records

import (
	"context"
	"time"
)

// Secret is something that definitions of one source may use, and nobody may see.
type Secret struct {
	Account int64
	Name    string
	Source  string
	Value   []byte // sealed
	Created time.Time
}

const secretColumns = "account, name, source, value, created"

// SetSecret keeps a secret, in place of the one of that name for that source.
func (q Queries) SetSecret(ctx context.Context, s Secret) error {
	_, err := q.db.Exec(ctx, `INSERT INTO secrets (account, name, source, value) VALUES ($1, $2, $3, $4)
		ON CONFLICT (account, name, source) DO UPDATE SET value = $4, created = now()`, s.Account, s.Name, s.Source, s.Value)
	return err
}

// Secrets lists an account's secrets.
func (q Queries) Secrets(ctx context.Context, account int64) ([]Secret, error) {
	return many[Secret](ctx, q.db, "SELECT "+secretColumns+" FROM secrets WHERE account = $1 ORDER BY source, name", account)
}

// SecretsFor lists an account's secrets for a source.
func (q Queries) SecretsFor(ctx context.Context, account int64, source string) ([]Secret, error) {
	return many[Secret](ctx, q.db, "SELECT "+secretColumns+" FROM secrets WHERE account = $1 AND source = $2 ORDER BY name", account, source)
}

// RemoveSecret forgets a secret.
func (q Queries) RemoveSecret(ctx context.Context, account int64, name, source string) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM secrets WHERE account = $1 AND name = $2 AND source = $3", account, name, source)
}
