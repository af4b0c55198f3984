package records

import "context"

// Helpers lists the helpers of a workspace.
func (q Queries) Helpers(ctx context.Context, parent int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE parent = $1 ORDER BY id", parent)
}
