package records

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// The kinds of snapshots.
const (
	Personal = "snapshot" // kept for somebody, who asked for it
	Prepared = "prepared" // made ready ahead of time
)

// Snapshot is a kept state of a workspace: files, volumes and services of one moment.
type Snapshot struct {
	ID        int64
	Kind      string
	Account   int64
	Workspace *int64 // nil: it was removed since
	Name      string // of the workspace
	Note      string
	Site      string
	Source    string
	Ref       string
	File      string
	Size      string
	Commit    string
	Plan      json.RawMessage
	Session   json.RawMessage
	UID       *int
	Done      json.RawMessage // map of step to digest
	Images    json.RawMessage // map of service to image; the workspace's own under ""
	Digest    string          // of its container
	Bytes     int64
	Ready     bool
	Created   time.Time
	Used      time.Time
	Copy      bool // kept by the rule of a site, at another one
	Shared    bool // what was prepared as nobody in particular: everybody may begin with it
}

// SiteID is what the snapshot is called at its site.
func (s Snapshot) SiteID() string { return fmt.Sprintf("s%d", s.ID) }

const snapshotColumns = "id, kind, account, workspace, name, note, site, source, ref, file, size, commit, plan, session, uid, done, images, digest, bytes, ready, created, used, copy, shared"

// AddSnapshot makes the record of a snapshot that is about to be kept.
func (q Queries) AddSnapshot(ctx context.Context, s Snapshot) (Snapshot, error) {
	return one[Snapshot](ctx, q.db, `INSERT INTO snapshots (kind, account, workspace, name, note, site, source, ref, file, size, commit, plan, session, uid, done, digest, shared, copy)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18) RETURNING `+snapshotColumns,
		s.Kind, s.Account, s.Workspace, s.Name, s.Note, s.Site, s.Source, s.Ref, s.File, s.Size, s.Commit, s.Plan, s.Session, s.UID, s.Done, s.Digest, s.Shared, s.Copy)
}

// KeepSnapshot notes that a snapshot is kept, in which images, and how large they are.
func (q Queries) KeepSnapshot(ctx context.Context, id int64, images json.RawMessage, bytes int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE snapshots SET images = $2, bytes = $3, ready = true WHERE id = $1", id, images, bytes)
}

// SetSnapshotSite notes at which site a snapshot is.
func (q Queries) SetSnapshotSite(ctx context.Context, id int64, site string) error {
	return q.change(ctx, ErrNotFound, "UPDATE snapshots SET site = $2 WHERE id = $1", id, site)
}

// Snapshot finds a snapshot.
func (q Queries) Snapshot(ctx context.Context, id int64) (Snapshot, error) {
	return one[Snapshot](ctx, q.db, "SELECT "+snapshotColumns+" FROM snapshots WHERE id = $1", id)
}

// Snapshots lists the snapshots that an account asked for, newest first.
func (q Queries) Snapshots(ctx context.Context, account int64) ([]Snapshot, error) {
	return many[Snapshot](ctx, q.db, "SELECT "+snapshotColumns+" FROM snapshots WHERE account = $1 AND kind = 'snapshot' ORDER BY id DESC", account)
}

// SnapshotsOf lists the snapshots of a workspace, newest first.
func (q Queries) SnapshotsOf(ctx context.Context, workspace int64) ([]Snapshot, error) {
	return many[Snapshot](ctx, q.db, "SELECT "+snapshotColumns+" FROM snapshots WHERE workspace = $1 ORDER BY id DESC", workspace)
}

// EverySnapshot lists all snapshots, of all accounts and sites.
func (q Queries) EverySnapshot(ctx context.Context) ([]Snapshot, error) {
	return many[Snapshot](ctx, q.db, "SELECT "+snapshotColumns+" FROM snapshots ORDER BY id")
}

// PreparedFor finds what was prepared at a site for a container of this digest at this
// commit, by the account itself or as nobody in particular; the newest one.
func (q Queries) PreparedFor(ctx context.Context, account int64, site, source, digest, commit string) (Snapshot, error) {
	return one[Snapshot](ctx, q.db, "UPDATE snapshots SET used = now() WHERE id = (SELECT id FROM snapshots WHERE kind = 'prepared' AND ready AND site = $1 AND source = $2 AND digest = $3 AND commit = $4 AND (shared OR account = $5) ORDER BY id DESC LIMIT 1) RETURNING "+snapshotColumns,
		site, source, digest, commit, account)
}

// HandSnapshot makes a snapshot another account's.
func (q Queries) HandSnapshot(ctx context.Context, id, account int64) error {
	return q.change(ctx, ErrNotFound, "UPDATE snapshots SET account = $2, workspace = NULL WHERE id = $1", id, account)
}

// RemoveSnapshot forgets a snapshot.
func (q Queries) RemoveSnapshot(ctx context.Context, id int64) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM snapshots WHERE id = $1", id)
}

// PreparedWorkspaces lists the workspaces in which sources are prepared: an account's, or
// all where account is 0.
func (q Queries) PreparedWorkspaces(ctx context.Context, account int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE kind = 'prepared' AND ($1 = 0 OR account = $1) ORDER BY id", account)
}

// Follow notes whether a source is prepared again when its branch moves.
func (q Queries) Follow(ctx context.Context, workspace int64, follow bool) error {
	sql := "DELETE FROM followed WHERE workspace = $1"
	if follow {
		sql = "INSERT INTO followed (workspace) VALUES ($1) ON CONFLICT DO NOTHING"
	}
	_, err := q.db.Exec(ctx, sql, workspace)
	return err
}

// Followed lists the prepared workspaces whose branch is followed.
func (q Queries) Followed(ctx context.Context) (map[int64]bool, error) {
	type row struct{ Workspace int64 }
	list, err := many[row](ctx, q.db, "SELECT workspace FROM followed")
	m := make(map[int64]bool, len(list))
	for _, r := range list {
		m[r.Workspace] = true
	}
	return m, err
}

// TakeLook takes the turn to look whether followed branches moved: one replica in each
// period has it.
func (q Queries) TakeLook(ctx context.Context, workspace int64, period time.Duration) (bool, error) {
	tag, err := q.db.Exec(ctx, "UPDATE followed SET looked = now() WHERE workspace = $1 AND looked < now() - $2::interval", workspace, period)
	return tag.RowsAffected() > 0, err
}
