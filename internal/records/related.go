package records

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Related is what is shown beside workspaces.
type Related struct {
	Last    map[int64]Run         // the newest run, by workspace
	Steps   map[int64][]Step      // by run
	Helpers map[int64][]Workspace // by workspace
	Typists map[int64]Typists     // by workspace
}

// The workspaces that something is shown beside, of the parameter $1.
const (
	named   = "SELECT unnest($1::bigint[]) AS id"
	account = "SELECT id FROM workspaces WHERE account = $1 AND kind = 'workspace'"
)

// Related finds, in one go, what is shown beside workspaces, with all steps of their newest
// runs.
func (q Queries) Related(ctx context.Context, workspaces []int64) (Related, error) {
	var batch pgx.Batch
	b := related(&batch, named, workspaces, true)
	return b, q.db.SendBatch(ctx, &batch).Close()
}

// Overview lists an account's workspaces, newest use first, with what is shown beside them,
// in one go. The steps of runs that went well are left out, and helpers and what is prepared
// are not among the workspaces.
func (q Queries) Overview(ctx context.Context, of int64) (list []Workspace, b Related, err error) {
	var batch pgx.Batch
	batch.Queue(listOf, of).Query(func(rows pgx.Rows) (err error) {
		list, err = pgx.CollectRows(rows, pgx.RowToStructByName[Workspace])
		return err
	})
	b = related(&batch, account, of, false)
	return list, b, q.db.SendBatch(ctx, &batch).Close()
}

// beside adds the questions to a batch; the answers are there when it was sent.
func related(batch *pgx.Batch, which string, parameter any, whole bool) Related {
	b := Related{map[int64]Run{}, map[int64][]Step{}, map[int64][]Workspace{}, map[int64]Typists{}}
	last := "(" + which + ") AS of, LATERAL (SELECT " + runColumns + " FROM runs WHERE workspace = of.id ORDER BY runs.id DESC LIMIT 1) r"
	batch.Queue("SELECT r.* FROM "+last, parameter).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Run])
		for _, r := range list {
			b.Last[r.Workspace] = r
		}
		return err
	})
	batch.Queue("SELECT "+stepColumns+" FROM steps WHERE run IN (SELECT r.id FROM "+last+" WHERE $2 OR r.state <> 'done') ORDER BY run, position", parameter, whole).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Step])
		for _, s := range list {
			b.Steps[s.Run] = append(b.Steps[s.Run], s)
		}
		return err
	})
	batch.Queue("SELECT "+listedColumns+" FROM workspaces WHERE parent IN ("+which+") ORDER BY id", parameter).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Workspace])
		for _, h := range list {
			b.Helpers[*h.Parent] = append(b.Helpers[*h.Parent], h)
		}
		return err
	})
	batch.Queue(typists+"("+which+")", parameter).Query(func(rows pgx.Rows) error {
		list, err := pgx.CollectRows(rows, pgx.RowToStructByName[Typists])
		for _, t := range list {
			b.Typists[t.Workspace] = t
		}
		return err
	})
	return b
}
