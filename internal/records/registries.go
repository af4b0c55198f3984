package records

import (
	"context"
	"time"
)

// Registry is a registry that wants credentials.
type Registry struct {
	Host     string
	Username string
	Password []byte // sealed
	Created  time.Time
}

// SetRegistry keeps a registry's credentials, in place of those it had.
func (q Queries) SetRegistry(ctx context.Context, r Registry, account int64) error {
	_, err := q.db.Exec(ctx, `INSERT INTO registries (host, username, password, account) VALUES ($1, $2, $3, $4)
		ON CONFLICT (host) DO UPDATE SET username = $2, password = $3, account = $4, created = now()`, r.Host, r.Username, r.Password, account)
	return err
}

// Registries lists them by host.
func (q Queries) Registries(ctx context.Context) ([]Registry, error) {
	return many[Registry](ctx, q.db, "SELECT host, username, password, created FROM registries ORDER BY host")
}

// RemoveRegistry forgets one, and tells whether it was there.
func (q Queries) RemoveRegistry(ctx context.Context, host string) (bool, error) {
	tag, err := q.db.Exec(ctx, "DELETE FROM registries WHERE host = $1", host)
	return tag.RowsAffected() > 0, err
}
