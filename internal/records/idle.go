package records

import (
	"context"
	"time"
)

// SetStopsAt notes when a workspace that nobody uses stops by itself; nil: it does not. It
// tells of it.
func (q Queries) SetStopsAt(ctx context.Context, w Workspace, at *time.Time) error {
	return q.changeAndTell(ctx, nil, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: w.State}, "UPDATE workspaces SET stops_at = $2 WHERE id = $1", w.ID, at)
}

// SetStayUntil keeps a workspace from stopping by itself for a while, and tells of it.
func (q Queries) SetStayUntil(ctx context.Context, w Workspace, until time.Time) error {
	return q.changeAndTell(ctx, nil, Event{Type: "workspace", Account: w.Account, Workspace: w.Name, State: w.State}, "UPDATE workspaces SET stay_until = $2, stops_at = NULL WHERE id = $1", w.ID, until)
}
