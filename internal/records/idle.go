package records

import (
	"context"
	"time"
)

// SetStopsAt notes when a workspace that nobody uses stops by itself; nil: it does not. It
// tells of it.
func (q Queries) SetStopsAt(ctx context.Context, w Workspace, at *time.Time) error {
	if _, err := q.db.Exec(ctx, "UPDATE workspaces SET stops_at = $2 WHERE id = $1", w.ID, at); err != nil {
		return err
	}
	return q.notify(ctx, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: w.State})
}

// SetStayUntil keeps a workspace from stopping by itself for a while, and tells of it.
func (q Queries) SetStayUntil(ctx context.Context, w Workspace, until time.Time) error {
	if _, err := q.db.Exec(ctx, "UPDATE workspaces SET stay_until = $2, stops_at = NULL WHERE id = $1", w.ID, until); err != nil {
		return err
	}
	return q.notify(ctx, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: w.State})
}
