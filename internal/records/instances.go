package records

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5/pgxpool"
)

// instanceClass is the first number of the instances' advisory locks; the second is the
// instance's id.
const instanceClass = "4380"

// Instance is this instance of the service, alive to the others while it holds its lock.
type Instance struct {
	ID   int64
	pool *pgxpool.Pool
}

// Enlist makes a record of this instance.
func (s *Store) Enlist(ctx context.Context) (*Instance, error) {
	i := &Instance{pool: s.Pool}
	if err := s.Pool.QueryRow(ctx, "INSERT INTO instances DEFAULT VALUES RETURNING id").Scan(&i.ID); err != nil {
		return nil, fmt.Errorf("enlist: %w", err)
	}
	return i, nil
}

// Hold holds the lock on a connection of its own until ctx ends or the connection breaks;
// the caller then calls it again. It calls held once the lock is had.
func (i *Instance) Hold(ctx context.Context, held func()) error {
	conn, err := i.pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("show that this instance lives: %w", err)
	}
	raw := conn.Hijack()
	defer func() { _ = raw.Close(context.WithoutCancel(ctx)) }()
	if _, err := raw.Exec(ctx, "SELECT pg_advisory_lock("+instanceClass+", $1::int)", i.ID); err != nil {
		return fmt.Errorf("show that this instance lives: %w", err)
	}
	held()
	_, err = raw.WaitForNotification(ctx) // none is listened for: this waits for the end
	return err
}
