package records

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Beside is what is shown beside workspaces.
type Beside struct {
	Last    map[int64]Run         // the newest run, by workspace
	Steps   map[int64][]Step      // by run
	Helpers map[int64][]Workspace // by workspace
}

// lastRuns are the newest runs of the workspaces $1.
const lastRuns = "unnest($1::bigint[]) AS of (id), LATERAL (SELECT " + runColumns + " FROM runs WHERE workspace = of.id ORDER BY runs.id DESC LIMIT 1) r"

// Beside finds, in one go, what is shown beside workspaces. The steps of runs that went well
// are left out, unless the whole is wanted.
func (q Queries) Beside(ctx context.Context, workspaces []int64, whole bool) (Beside, error) {
	b := Beside{map[int64]Run{}, map[int64][]Step{}, map[int64][]Workspace{}}
	var batch pgx.Batch
	batch.Queue("SELECT r.* FROM "+lastRuns, workspaces).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Run])
		for _, r := range list {
			b.Last[r.Workspace] = r
		}
		return err
	})
	batch.Queue("SELECT "+stepColumns+" FROM steps WHERE run IN (SELECT r.id FROM "+lastRuns+" WHERE $2 OR r.state <> 'done') ORDER BY run, position", workspaces, whole).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Step])
		for _, s := range list {
			b.Steps[s.Run] = append(b.Steps[s.Run], s)
		}
		return err
	})
	batch.Queue("SELECT "+listedColumns+" FROM workspaces WHERE parent = ANY($1) ORDER BY id", workspaces).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Workspace])
		for _, h := range list {
			b.Helpers[*h.Parent] = append(b.Helpers[*h.Parent], h)
		}
		return err
	})
	return b, q.db.SendBatch(ctx, &batch).Close()
}
