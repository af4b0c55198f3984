package records

import (
	"context"
	"encoding/json"
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
	Given   bool // by a flag of the service; else it was added
	// HostKey is, of a host, its pinned key, as in an authorized_keys line; of the hosts that
	// lead there those in the lines before it.
	HostKey  string
	Through  string          // the hosts that lead there, as Address and with commas between, the nearest first
	Settings json.RawMessage // what it has of its own in place of the service's settings
	Secret   []byte          // of an account at a provider, sealed
}

const siteColumns = "name, kind, address, drained, added, given, host_key, through, settings, secret"

// GiveSites notes the sites that the service was given at its start, and drains those that it
// was given once and is no longer. It gives all of them, by name.
func (s *Store) GiveSites(ctx context.Context, given []Site) (all []Site, err error) {
	err = s.InTx(ctx, func(db Queries, _ pgx.Tx) error {
		if _, err := db.db.Exec(ctx, "UPDATE sites SET drained = true WHERE given"); err != nil {
			return err
		}
		for _, v := range given {
			if _, err := db.db.Exec(ctx, `INSERT INTO sites (name, kind, address) VALUES ($1, $2, $3)
				ON CONFLICT (name) DO UPDATE SET kind = $2, address = $3, drained = false, given = true`, v.Name, v.Kind, v.Address); err != nil {
				return err
			}
		}
		all, err = db.Sites(ctx)
		return err
	})
	return all, err
}

// Sites lists all sites by name.
func (q Queries) Sites(ctx context.Context) ([]Site, error) {
	return many[Site](ctx, q.db, "SELECT "+siteColumns+" FROM sites ORDER BY name")
}

// AddSite makes the record of a site; ErrTaken: there is one of that name.
func (q Queries) AddSite(ctx context.Context, v Site) (Site, error) {
	v, err := one[Site](ctx, q.db, "INSERT INTO sites (name, kind, address, given, host_key, through, secret) VALUES ($1, $2, $3, false, $4, $5, coalesce($6::bytea, '')) RETURNING "+siteColumns, v.Name, v.Kind, v.Address, v.HostKey, v.Through, v.Secret)
	return v, taken(err)
}

// DrainSite notes whether a site takes something new.
func (q Queries) DrainSite(ctx context.Context, name string, drained bool) error {
	return q.change(ctx, ErrNotFound, "UPDATE sites SET drained = $2 WHERE name = $1", name, drained)
}

// ChangeSite keeps what a site has of its own in place of the service's settings. change is
// given what it has now, while nobody else can change it.
func (s *Store) ChangeSite(ctx context.Context, name string, change func(json.RawMessage) (json.RawMessage, error)) error {
	return s.InTx(ctx, func(db Queries, _ pgx.Tx) error {
		v, err := one[Site](ctx, db.db, "SELECT "+siteColumns+" FROM sites WHERE name = $1 FOR UPDATE", name)
		if err != nil {
			return err
		}
		settings, err := change(v.Settings)
		if err != nil {
			return err
		}
		return db.change(ctx, ErrNotFound, "UPDATE sites SET settings = $2 WHERE name = $1", name, settings)
	})
}

// PinHost keeps another key of a site's host.
func (q Queries) PinHost(ctx context.Context, name, key string) error {
	return q.change(ctx, ErrNotFound, "UPDATE sites SET host_key = $2 WHERE name = $1 AND host_key <> ''", name, key)
}

// SetSiteSecret keeps another secret of a site's account.
func (q Queries) SetSiteSecret(ctx context.Context, name string, secret []byte) error {
	return q.change(ctx, ErrNotFound, "UPDATE sites SET secret = $2 WHERE name = $1 AND kind = 'cloud'", name, secret)
}

// RemoveSite forgets a drained site at which nothing is any more; ErrBusy: something is, or it
// takes workspaces.
func (q Queries) RemoveSite(ctx context.Context, name string) error {
	return q.change(ctx, ErrBusy, `DELETE FROM sites WHERE name = $1 AND drained
		AND NOT EXISTS (SELECT 1 FROM workspaces WHERE site = $1) AND NOT EXISTS (SELECT 1 FROM snapshots WHERE site = $1)
		AND NOT EXISTS (SELECT 1 FROM rentals WHERE site = $1 AND ended IS NULL)`, name)
}
