package records

import "context"

// Editor is how a person's editor is opened by a link.
type Editor struct {
	Name string
	Link string // with placeholders
}

// Editors lists an account's.
func (q Queries) Editors(ctx context.Context, account int64) ([]Editor, error) {
	return many[Editor](ctx, q.db, "SELECT name, link FROM editors WHERE account = $1 ORDER BY name", account)
}

// SetEditor keeps one, in place of the one of that name.
func (q Queries) SetEditor(ctx context.Context, account int64, e Editor) error {
	_, err := q.db.Exec(ctx, "INSERT INTO editors (account, name, link) VALUES ($1, $2, $3) ON CONFLICT (account, name) DO UPDATE SET link = $3", account, e.Name, e.Link)
	return err
}

// RemoveEditor forgets one.
func (q Queries) RemoveEditor(ctx context.Context, account int64, name string) error {
	return q.change(ctx, ErrNotFound, "DELETE FROM editors WHERE account = $1 AND name = $2", account, name)
}
