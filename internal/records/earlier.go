package records

import "context"

// KeepEarlier keeps what a workspace was before a rebuild or a move changes it, unless that is
// kept already.
func (q Queries) KeepEarlier(ctx context.Context, id int64) error {
	_, err := q.db.Exec(ctx, `UPDATE workspaces SET earlier = jsonb_build_object('state', state, 'plan', plan, 'session', session, 'uid', uid, 'commit', commit, 'checks', checks, 'site', site, 'size', size, 'beginsWith', begins_with,
		'done', (SELECT coalesce(jsonb_object_agg(step, digest), '{}') FROM done WHERE workspace = $1))
		WHERE id = $1 AND earlier IS NULL`, id)
	return err
}

// PutEarlierBack makes a workspace's record again what it was before the rebuild or the move.
func (q Queries) PutEarlierBack(ctx context.Context, id int64) error {
	if _, err := q.db.Exec(ctx, "DELETE FROM done WHERE workspace = $1 AND EXISTS (SELECT 1 FROM workspaces WHERE id = $1 AND earlier IS NOT NULL)", id); err != nil {
		return err
	}
	if _, err := q.db.Exec(ctx, `INSERT INTO done (workspace, step, digest) SELECT w.id, d.key, d.value FROM workspaces w, jsonb_each_text(w.earlier->'done') d WHERE w.id = $1`, id); err != nil {
		return err
	}
	_, err := q.db.Exec(ctx, `UPDATE workspaces SET plan = nullif(earlier->'plan', 'null'), planned = planned + 1, session = nullif(earlier->'session', 'null'), uid = (earlier->>'uid')::integer,
		commit = earlier->>'commit', checks = nullif(earlier->'checks', 'null'), site = coalesce(earlier->>'site', site), size = coalesce(earlier->>'size', size),
		begins_with = CASE WHEN earlier ? 'site' THEN (earlier->>'beginsWith')::bigint ELSE begins_with END, earlier = NULL WHERE id = $1 AND earlier IS NOT NULL`, id)
	return err
}

// DropEarlier gives up what a workspace was before a rebuild or a move that went well.
func (q Queries) DropEarlier(ctx context.Context, id int64) error {
	_, err := q.db.Exec(ctx, "UPDATE workspaces SET earlier = NULL WHERE id = $1", id)
	return err
}
