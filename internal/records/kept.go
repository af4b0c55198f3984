package records

import (
	"context"
	"encoding/json"
)

// SetKeep notes how many workspaces are kept warm of what is prepared.
func (q Queries) SetKeep(ctx context.Context, prepared int64, keep int) error {
	return q.change(ctx, ErrNotFound, "UPDATE workspaces SET keep = $2 WHERE id = $1 AND kind = 'prepared'", prepared, keep)
}

// AddKept makes the record of a workspace that is kept warm of what is prepared.
func (q Queries) AddKept(ctx context.Context, prepared Workspace, name, site string) (Workspace, error) {
	w, err := one[Workspace](ctx, q.db, `INSERT INTO workspaces (account, name, source, ref, file, site, state, wanted, kind, size, kept_for)
		VALUES ($1, $2, $3, $4, $5, $6, '`+Waiting+`', '`+WantRunning+`', '`+IsKept+`', $7, $8) ON CONFLICT DO NOTHING RETURNING `+workspaceColumns,
		prepared.Account, name, prepared.Source, prepared.Ref, prepared.File, site, prepared.Size, prepared.ID)
	if err == ErrNotFound {
		err = ErrTaken
	}
	return w, err
}

// KeptOf lists the workspaces that are kept warm, or being made for that, of what is prepared.
func (q Queries) KeptOf(ctx context.Context, prepared int64) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE kind = '"+IsKept+"' AND kept_for = $1 ORDER BY id", prepared)
}

// Orphans lists the workspaces that were kept warm of what is no longer prepared.
func (q Queries) Orphans(ctx context.Context) ([]Workspace, error) {
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE kind = '"+IsKept+"' AND kept_for IS NULL ORDER BY id")
}

// KeptFor lists the workspaces that are kept warm for who asks for this; an empty site: at any.
func (q Queries) KeptFor(ctx context.Context, source, ref, file, size, site string, variations json.RawMessage) ([]Workspace, error) {
	if variations != nil { // none is kept with variations
		return nil, nil
	}
	return many[Workspace](ctx, q.db, "SELECT "+workspaceColumns+" FROM workspaces WHERE kind = '"+IsKept+"' AND state = '"+Kept+"' AND source = $1 AND ref = $2 AND file = $3 AND size = $4 AND ($5 = '' OR site = $5) ORDER BY id",
		source, ref, file, size, site)
}

// TakeKept makes a workspace that is kept warm somebody's; ErrNotFound: somebody else was faster;
// ErrTaken: the account has one of that name.
func (q Queries) TakeKept(ctx context.Context, id, account int64, name string) (Workspace, error) {
	var there bool
	if err := q.db.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM workspaces WHERE account = $1 AND name = $2)", account, name).Scan(&there); err != nil {
		return Workspace{}, err
	}
	if there {
		return Workspace{}, ErrTaken
	}
	w, err := one[Workspace](ctx, q.db, "UPDATE workspaces SET account = $2, name = $3, kind = '"+IsWorkspace+"', kept_for = NULL, state = '"+Waiting+"', reason = '', created = now(), last_used = now() WHERE id = $1 AND kind = '"+IsKept+"' AND state = '"+Kept+"' RETURNING "+workspaceColumns,
		id, account, name)
	return w, taken(err)
}
