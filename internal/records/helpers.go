package records

import "context"

// Helpers lists the helpers of a workspace.
func (q Queries) Helpers(ctx context.Context, parent int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE parent = $1 ORDER BY id", parent)
}

// HelpersOf lists the helpers of several workspaces, by workspace.
func (q Queries) HelpersOf(ctx context.Context, parents []int64) (map[int64][]Workspace, error) {
	list, err := many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE parent = ANY($1) ORDER BY id", parents)
	m := map[int64][]Workspace{}
	for _, h := range list {
		m[*h.Parent] = append(m[*h.Parent], h)
	}
	return m, err
}
