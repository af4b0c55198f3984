package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Site is a place that can hold workspaces.
type Site struct {
	Name    string
	Kind    string // as package site names it
	Address string // where it is reached, as its kind reads it
	Drained bool   // it takes nothing new
	Added   time.Time
}

const siteColumns = "name, kind, address, drained, added"

// GiveSites notes the sites that the service was given at its start, and drains the others.
// It gives all of them, by name.
func (s *Store) GiveSites(ctx context.Context, given []Site) (all []Site, err error) {
	err = s.InTx(ctx, func(db Queries, _ pgx.Tx) error {
		if _, err := db.db.Exec(ctx, "UPDATE sites SET drained = true"); err != nil {
			return err
		}
		for _, v := range given {
			if _, err := db.db.Exec(ctx, `INSERT INTO sites (name, kind, address) VALUES ($1, $2, $3)
				ON CONFLICT (name) DO UPDATE SET kind = $2, address = $3, drained = false`, v.Name, v.Kind, v.Address); err != nil {
				return err
			}
		}
		all, err = many[Site](ctx, db.db, "SELECT "+siteColumns+" FROM sites ORDER BY name")
		return err
	})
	return all, err
}

// RemoveSite forgets a drained site at which nothing is any more; ErrBusy: something is, or it
// takes workspaces.
func (q Queries) RemoveSite(ctx context.Context, name string) error {
	return q.change(ctx, ErrBusy, `DELETE FROM sites WHERE name = $1 AND drained
		AND NOT EXISTS (SELECT 1 FROM workspaces WHERE site = $1) AND NOT EXISTS (SELECT 1 FROM snapshots WHERE site = $1)`, name)
}
