package records

import (
	"context"
	"encoding/json"
	"fmt"
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

// notify tells all instances; within a transaction, when it is committed.
func (q Queries) notify(ctx context.Context, e Event) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = q.db.Exec(ctx, "SELECT pg_notify($1, $2)", channel, string(b))
	return err
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
