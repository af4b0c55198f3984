// Package records keeps what Domicile must not forget in PostgreSQL: accounts, keys,
// workspaces, runs with their steps and logs. It decides nothing; it stores, finds, and
// tells other instances of the service what changed.
package records

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"domicile/internal/fault"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// What the caller may want to tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("taken")
	ErrBusy     = errors.New("a run is under way")
	ErrLost     = errors.New("the lease is another instance's")
)

// database is a pool or a transaction.
type database interface {
	Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
}

// Queries are the questions that can be asked, in a transaction or outside.
type Queries struct{ db database }

// Store is the database.
type Store struct {
	Queries
	Pool *pgxpool.Pool
}

// Open connects, and brings the schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	return OpenWith(ctx, Opening{URL: url})
}

// Opening says how the records are opened.
type Opening struct {
	URL string
	// Workers are how many runs are carried out at a time: each may hold a connection while it waits
	// its turn (Exclusively), and needs another one for what it writes meanwhile.
	Workers int
	// Before is called before the schema of records that are there already is changed, with the versions
	// of it; nil: nothing is done.
	Before func(ctx context.Context, from, to int64) error
}

// OpenWith connects, and brings the schema up to date. Records of a newer version are refused, and not
// touched.
func OpenWith(ctx context.Context, o Opening) (*Store, error) {
	config, err := pgxpool.ParseConfig(o.URL)
	if err != nil {
		return nil, fmt.Errorf("read the database's address: %w", err)
	}
	// Statements name their columns, so that a prepared one outlives what another instance's
	// migration adds.
	config.ConnConfig.DefaultQueryExecMode = pgx.QueryExecModeCacheStatement
	config.MaxConns = max(config.MaxConns, 16, int32(2*o.Workers+8))
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	if err := migrate(ctx, pool, o.Before); err != nil {
		pool.Close()
		return nil, FromDatabase(err)
	}
	return &Store{Queries{edge{pool}}, pool}, nil
}

// migrate runs under a lock: several instances may start at once.
func migrate(ctx context.Context, pool *pgxpool.Pool, before func(ctx context.Context, from, to int64) error) error {
	lock, err := pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer lock.Release()
	const number = 4380
	if _, err := lock.Exec(ctx, "SELECT pg_advisory_lock($1)", number); err != nil {
		return fmt.Errorf("lock the schema: %w", err)
	}
	defer func() {
		_, _ = lock.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", number)
	}()
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, db, files)
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	from, to, err := provider.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("read the schema's version: %w", err)
	}
	if from > to {
		return fault.New("database-newer", "start the newer version again, or bring back a backup of before into a new data folder", "the records are of a newer version (%d) than this service knows (%d)", from, to)
	}
	if 0 < from && from < to && before != nil {
		if err := before(ctx, from, to); err != nil {
			return err
		}
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("migrate the schema: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return fmt.Errorf("read the queue's migrations: %w", err)
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate the queue's schema: %w", err)
	}
	return nil
}

// NewestSchema is the newest version of the records that this service knows.
func NewestSchema() (newest int64) {
	list, _ := fs.Glob(migrations, "migrations/*.sql") // the pattern is a good one
	for _, name := range list {
		if n, err := goose.NumericComponent(name); err == nil {
			newest = max(newest, n)
		}
	}
	return newest
}

// SchemaOf is the version of the records in a database; 0: it has none.
func SchemaOf(ctx context.Context, conn *pgx.Conn) (version int64, err error) {
	var there bool
	if err := conn.QueryRow(ctx, "SELECT to_regclass('goose_db_version') IS NOT NULL").Scan(&there); err != nil || !there {
		return 0, err
	}
	err = conn.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied").Scan(&version)
	return version, err
}

// Close closes the database.
func (s *Store) Close() { s.Pool.Close() }

// mostDeadlocks is how often a transaction is tried that waited for another which waited for it.
const mostDeadlocks = 5

// InTx calls f in a transaction that is committed when f returns nil. Where two transactions wait for
// each other the database undoes one, and f is called again: it must not count on what it left behind.
func (s *Store) InTx(ctx context.Context, f func(q Queries, tx pgx.Tx) error) (err error) {
	for range mostDeadlocks {
		if err = s.inTx(ctx, f); !deadlocked(err) {
			return err
		}
	}
	return err
}

// deadlocked tells that the database undid a transaction for another's sake.
func deadlocked(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && answer.Code == "40P01"
}

func (s *Store) inTx(ctx context.Context, f func(q Queries, tx pgx.Tx) error) error {
	tx, err := s.Pool.Begin(ctx)
	if err != nil {
		return FromDatabase(err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // none after the commit
	if err := f(Queries{edge{tx}}, tx); err != nil {
		return err
	}
	return FromDatabase(tx.Commit(ctx))
}

// AsHolder calls f in a transaction in which a run stays its holder's: nobody takes it over
// or ends it from outside before what f wrote is committed. One that is another's already,
// or over, is ErrLost, and nothing is written.
func (s *Store) AsHolder(ctx context.Context, r Run, f func(q Queries, tx pgx.Tx) error) error {
	return s.InTx(ctx, func(q Queries, tx pgx.Tx) error {
		var is bool
		err := q.db.QueryRow(ctx, "SELECT true FROM runs WHERE id = $1 AND holder = $2 AND state = 'running' FOR SHARE", r.ID, r.Holder).Scan(&is)
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrLost
		}
		if err != nil {
			return fmt.Errorf("see whose the run is: %w", err)
		}
		return f(q, tx)
	})
}

// Unwritable tells whether an error means that a text holds what PostgreSQL cannot keep: a
// zero byte, or what is not UTF-8.
func Unwritable(err error) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && (answer.Code == "22021" || answer.Code == "22P05")
}

// one reads a single row; none is ErrNotFound.
func one[T any](ctx context.Context, db database, sql string, args ...any) (T, error) {
	rows, err := db.Query(ctx, sql, args...)
	if err != nil {
		var zero T
		return zero, err
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if errors.Is(err, pgx.ErrNoRows) {
		err = ErrNotFound
	}
	return v, err
}

func many[T any](ctx context.Context, db database, sql string, args ...any) ([]T, error) {
	rows, err := db.Query(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[T])
}

// change runs a statement that must meet exactly what it names.
func (q Queries) change(ctx context.Context, missing error, sql string, args ...any) error {
	tag, err := q.db.Exec(ctx, sql, args...)
	if err == nil && tag.RowsAffected() == 0 {
		return missing
	}
	return err
}

// taken turns a violated uniqueness into ErrTaken.
func taken(err error) error {
	var answer *pgconn.PgError
	if errors.As(err, &answer) && answer.Code == "23505" {
		if answer.ConstraintName == "runs_unfinished" {
			return ErrBusy
		}
		return ErrTaken
	}
	return err
}

// Installation returns the name that labels this installation's objects; the first call
// settles it.
func (q Queries) Installation(ctx context.Context, fresh string) (name string, err error) {
	if _, err = q.db.Exec(ctx, "INSERT INTO installation (name) VALUES ($1) ON CONFLICT DO NOTHING", fresh); err != nil {
		return "", err
	}
	err = q.db.QueryRow(ctx, "SELECT name FROM installation").Scan(&name)
	return name, err
}

// Exclusively runs work while no other replica runs work of the same name. The lock is the
// database's, so it is let go of when its holder dies.
func (s *Store) Exclusively(ctx context.Context, name string, work func() error) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock(hashtextextended($1, 0))", name); err != nil {
		return err
	}
	defer func() {
		if _, err := conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock(hashtextextended($1, 0))", name); err != nil {
			_ = conn.Conn().Close(context.WithoutCancel(ctx)) // which lets go of it too
		}
	}()
	return work()
}
