package records

import (
	"context"
	"encoding/json"
)

// Done is a step's work that need not be done again while the digest is the same.
type Done struct {
	Step   string
	Digest string
	Result json.RawMessage
}

// DoneSteps lists what is done for a workspace, by step.
func (q Queries) DoneSteps(ctx context.Context, workspace int64) (map[string]Done, error) {
	list, err := many[Done](ctx, q.db, "SELECT step, digest, result FROM done WHERE workspace = $1", workspace)
	if err != nil {
		return nil, err
	}
	m := make(map[string]Done, len(list))
	for _, d := range list {
		m[d.Step] = d
	}
	return m, nil
}

// SetDone notes that a step's work is done.
func (q Queries) SetDone(ctx context.Context, workspace int64, d Done) error {
	_, err := q.db.Exec(ctx, `INSERT INTO done (workspace, step, digest, result) VALUES ($1, $2, $3, $4)
		ON CONFLICT (workspace, step) DO UPDATE SET digest = excluded.digest, result = excluded.result`, workspace, d.Step, d.Digest, d.Result)
	return err
}

// DropDone forgets that steps are done: what they made is gone.
func (q Queries) DropDone(ctx context.Context, workspace int64, steps ...string) error {
	_, err := q.db.Exec(ctx, "DELETE FROM done WHERE workspace = $1 AND step = ANY($2)", workspace, steps)
	return err
}

// Digests gives the digests of done steps, by step.
func Digests(done map[string]Done) map[string]string {
	m := make(map[string]string, len(done))
	for step, d := range done {
		m[step] = d.Digest
	}
	return m
}

// ReplaceDone sets what is done for a workspace to exactly these digests, by step.
func (q Queries) ReplaceDone(ctx context.Context, workspace int64, digests map[string]string) error {
	if _, err := q.db.Exec(ctx, "DELETE FROM done WHERE workspace = $1", workspace); err != nil {
		return err
	}
	for step, digest := range digests {
		if err := q.SetDone(ctx, workspace, Done{Step: step, Digest: digest}); err != nil {
			return err
		}
	}
	return nil
}
