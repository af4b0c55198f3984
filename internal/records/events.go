package records

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// channel is what the service's instances listen on.
const channel = "domicile"

// Event tells of a change.
type Event struct {
	Type      string `json:"type"` // workspace, run, step or log
	Account   int64  `json:"account"`
	Workspace string `json:"workspace"`
	Run       int64  `json:"run,omitempty"`
	State     string `json:"state,omitempty"`
}

// changeAndTell runs a statement that changes rows and tells all instances of it, in one
// transaction; within a larger one they are told when that is committed. Where it meets no
// row, nobody is told, and the error is missing.
func (q Queries) changeAndTell(ctx context.Context, missing error, e Event, sql string, args ...any) error {
	sql, args, err := telling(e, sql, args)
	if err != nil {
		return err
	}
	return q.change(ctx, missing, sql, args...)
}

// telling makes of a statement that changes rows one that tells of it too. It meets as many
// rows as the statement does; the database folds equal notices.
func telling(e Event, sql string, args []any) (string, []any, error) {
	b, err := json.Marshal(e)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("WITH changed AS (%s RETURNING 1) SELECT pg_notify('%s', $%d) FROM changed", sql, channel, len(args)+1), append(args, string(b)), nil
}

// told are statements of one transaction that change what a run's holder may change, and
// tell of it.
type told struct {
	batch pgx.Batch
	about Event
	err   error
}

// add adds one. Where it meets no row, the run is another's.
func (b *told) add(kind, state, sql string, args ...any) {
	e := b.about
	e.Type, e.State = kind, state
	sql, args, err := telling(e, sql, args)
	if err != nil {
		b.err = err
		return
	}
	b.batch.Queue(sql, args...).Exec(func(tag pgconn.CommandTag) error {
		if tag.RowsAffected() == 0 {
			return ErrLost
		}
		return nil
	})
}

func (b *told) send(ctx context.Context, db database) error {
	if b.err != nil || b.batch.Len() == 0 {
		return b.err
	}
	return db.SendBatch(ctx, &b.batch).Close()
}

// Listen calls f for every change until ctx ends or the connection breaks. It calls
// listening once it misses nothing more.
func (s *Store) Listen(ctx context.Context, listening func(), f func(Event)) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("listen for changes: %w", err)
	}
	defer func() {
		// A connection that listens must not go back to the others.
		_ = conn.Hijack().Close(context.WithoutCancel(ctx))
	}()
	if _, err := conn.Exec(ctx, "LISTEN "+channel); err != nil {
		return fmt.Errorf("listen for changes: %w", err)
	}
	listening()
	for {
		n, err := conn.Conn().WaitForNotification(ctx)
		if err != nil {
			return fmt.Errorf("listen for changes: %w", err)
		}
		var e Event
		if json.Unmarshal([]byte(n.Payload), &e) == nil {
			f(e)
		}
	}
}
