package records

import (
	"context"
	"time"
)

// Copying counts the runs that make copies of workspaces of a site.
func (q Queries) Copying(ctx context.Context, site string) (n int, err error) {
	err = q.db.QueryRow(ctx, "SELECT count(*) FROM runs r JOIN workspaces w ON w.id = r.workspace WHERE r.kind = '"+KindCopy+"' AND r.ended IS NULL AND w.site = $1", site).Scan(&n)
	return n, err
}

// Due tells of which workspace a copy is to be kept at another site.
type Due struct {
	Site  string        // of the workspace
	At    string        // where copies are kept
	Every time.Duration // how old the last one is at the most
	Again time.Duration // how long after one that could not be kept another is tried
	// Workspace is the only one that is looked at; 0: all of the site.
	Workspace int64
}

// CopyDue finds the first workspace of which a copy is due: the last one is old, and something may
// have changed since. Of one that is stopped nothing does.
func (q Queries) CopyDue(ctx context.Context, d Due) (Workspace, error) {
	return one[Workspace](ctx, q.db, "SELECT "+listedColumns+` FROM workspaces
		LEFT JOIN LATERAL (SELECT kind AS did, state AS came, ended FROM runs WHERE runs.workspace = workspaces.id ORDER BY runs.id DESC LIMIT 1) last ON true
		WHERE site = $1 AND kind = '`+IsWorkspace+`' AND NOT mount AND state IN ('`+Ready+`', '`+Stopped+`') AND ($5 = 0 OR workspaces.id = $5)
		AND (did IS DISTINCT FROM '`+KindCopy+`' OR ended IS NOT NULL AND NOT (came = '`+Failed+`' AND ended > now() - $4::interval) AND NOT (came = '`+Succeeded+`' AND state = '`+Stopped+`'))
		AND NOT EXISTS (SELECT 1 FROM snapshots s WHERE s.workspace = workspaces.id AND s.copy AND s.ready AND s.site = $2 AND s.created > now() - $3::interval)
		ORDER BY workspaces.id LIMIT 1`, d.Site, d.At, d.Every, d.Again, d.Workspace)
}
