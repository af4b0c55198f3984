package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// LeftBehind is what a workspace left at a site that did not answer, when it was made anew
// elsewhere.
type LeftBehind struct {
	Site      string
	Workspace int64
	Snapshot  int64           // the number of the snapshot as which it is kept when it is found
	Record    json.RawMessage // of that snapshot
	Since     time.Time
}

// LeaveBehind notes that a workspace leaves what it has at a site; s is the record of a snapshot of
// that.
func (q Queries) LeaveBehind(ctx context.Context, s Snapshot) error {
	b, err := json.Marshal(s)
	if err != nil {
		return fmt.Errorf("keep the record of a snapshot: %w", err)
	}
	_, err = q.db.Exec(ctx, "INSERT INTO left_behind (site, workspace, record) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING", s.Site, s.Workspace, b)
	return err
}

// LeftBehind lists what was left at a site.
func (q Queries) LeftBehind(ctx context.Context, site string) ([]LeftBehind, error) {
	return many[LeftBehind](ctx, q.db, "SELECT site, workspace, snapshot, record, since FROM left_behind WHERE site = $1 ORDER BY workspace", site)
}

// LeftBehindBy lists what a workspace has left at sites.
func (q Queries) LeftBehindBy(ctx context.Context, workspace int64) ([]LeftBehind, error) {
	return many[LeftBehind](ctx, q.db, "SELECT site, workspace, snapshot, record, since FROM left_behind WHERE workspace = $1 ORDER BY site", workspace)
}

// LeftLease is how long a replica has to keep what was left, before another one may.
const LeftLease = 30 * time.Minute

// TakeLeftBehind takes the turn to keep what a workspace left at a site: one replica has it.
func (q Queries) TakeLeftBehind(ctx context.Context, l LeftBehind) (bool, error) {
	tag, err := q.db.Exec(ctx, "UPDATE left_behind SET taken = now() WHERE site = $1 AND workspace = $2 AND (taken IS NULL OR taken < now() - $3::interval)", l.Site, l.Workspace, LeftLease)
	return tag.RowsAffected() > 0, err
}

// LetLeftBehind gives the turn back, where it did not go.
func (q Queries) LetLeftBehind(ctx context.Context, l LeftBehind) error {
	_, err := q.db.Exec(ctx, "UPDATE left_behind SET taken = NULL WHERE site = $1 AND workspace = $2", l.Site, l.Workspace)
	return err
}

// ForgetLeftBehind forgets what a workspace left at a site.
func (q Queries) ForgetLeftBehind(ctx context.Context, site string, workspace int64) error {
	_, err := q.db.Exec(ctx, "DELETE FROM left_behind WHERE site = $1 AND workspace = $2", site, workspace)
	return err
}

// AddFound makes the record of a snapshot that was kept of what a workspace had left at a site.
func (q Queries) AddFound(ctx context.Context, l LeftBehind, images json.RawMessage, bytes int64) error {
	var s Snapshot
	if err := json.Unmarshal(l.Record, &s); err != nil {
		return fmt.Errorf("read the record of a snapshot: %w", err)
	}
	_, err := q.db.Exec(ctx, `INSERT INTO snapshots (id, kind, account, workspace, name, note, site, source, ref, file, size, commit, plan, session, uid, done, digest, images, bytes, ready) OVERRIDING SYSTEM VALUE
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, $19, true)`,
		l.Snapshot, s.Kind, s.Account, s.Workspace, s.Name, s.Note, s.Site, s.Source, s.Ref, s.File, s.Size, s.Commit, s.Plan, s.Session, s.UID, s.Done, s.Digest, images, bytes)
	return err
}
