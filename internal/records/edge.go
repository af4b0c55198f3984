package records

import (
	"context"
	"errors"
	"net"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Away is an error that came from the database itself, which cannot be reached or is
// stopping. It is made where the database is asked and nowhere else: an agent, a registry
// or a site that does not answer is no reason to say that the records are gone.
type Away struct{ Err error }

func (a *Away) Error() string { return "the database does not answer: " + a.Err.Error() }

// Unwrap gives what the driver said.
func (a *Away) Unwrap() error { return a.Err }

// Unavailable tells whether an error means that the database cannot be reached or is
// stopping, rather than that the question was wrong.
func Unavailable(err error) bool {
	var away *Away
	return errors.As(err, &away)
}

// FromDatabase marks an error of the database's driver, for those who ask it past Queries.
func FromDatabase(err error) error {
	var network net.Error
	var connect *pgconn.ConnectError
	var answer *pgconn.PgError
	var known *Away
	switch {
	case err == nil, errors.As(err, &known), errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, context.DeadlineExceeded) && !errors.As(err, &connect): // who asked had no more time
		return err
	case errors.As(err, &answer):
		if !strings.HasPrefix(answer.Code, "57P") && !strings.HasPrefix(answer.Code, "08") && answer.Code != "53300" {
			return err
		}
	case errors.As(err, &connect), errors.As(err, &network), pgconn.SafeToRetry(err):
	case strings.Contains(err.Error(), "conn closed"), strings.Contains(err.Error(), "unexpected EOF"), strings.Contains(err.Error(), "failed to connect"):
	default:
		return err
	}
	return &Away{err}
}

// edge is a database whose errors are marked.
type edge struct{ of database }

func (e edge) Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error) {
	tag, err := e.of.Exec(ctx, sql, args...)
	return tag, FromDatabase(err)
}

func (e edge) Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error) {
	rows, err := e.of.Query(ctx, sql, args...)
	if err != nil {
		return rows, FromDatabase(err)
	}
	return edgeRows{rows}, nil
}

func (e edge) QueryRow(ctx context.Context, sql string, args ...any) pgx.Row {
	return edgeRow{e.of.QueryRow(ctx, sql, args...)}
}

func (e edge) SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults {
	return edgeBatch{e.of.SendBatch(ctx, b)}
}

type edgeRows struct{ pgx.Rows }

func (r edgeRows) Err() error             { return FromDatabase(r.Rows.Err()) }
func (r edgeRows) Scan(into ...any) error { return FromDatabase(r.Rows.Scan(into...)) }

type edgeRow struct{ pgx.Row }

func (r edgeRow) Scan(into ...any) error { return FromDatabase(r.Row.Scan(into...)) }

type edgeBatch struct{ pgx.BatchResults }

func (b edgeBatch) Close() error { return FromDatabase(b.BatchResults.Close()) }
