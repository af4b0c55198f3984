package run

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"domicile/internal/records"
)

// advance writes down how far the run has come: the lines of its log, the steps that are
// over, and others as they are now.
func (c *execution) advance(ctx context.Context, steps ...records.Step) error {
	return c.advanceWith(ctx, nil, steps...)
}

// advanceWith does so and adds a step to the run, all at once.
func (c *execution) advanceWith(ctx context.Context, added []records.Step, steps ...records.Step) error {
	steps = append(c.ended, steps...)
	err := c.log.hand(func(lines []records.LogLine) error {
		if len(added) == 0 {
			return c.keep(ctx, func() error { return c.o.Store.Advance(ctx, c.workspace, c.run, lines, steps...) })
		}
		return c.write(ctx, func(db records.Queries) error {
			if err := db.AddSteps(ctx, c.run.ID, c.workspace.Source, added); err != nil {
				return err
			}
			return db.Advance(ctx, c.workspace, c.run, lines, steps...)
		})
	})
	if err == nil {
		c.ended = nil
	}
	return err
}

func (c *execution) setState(ctx context.Context, state, reason string) error {
	c.workspace.State, c.workspace.Reason = state, reason
	return c.keep(ctx, func() error { return c.o.Store.SetStateByRun(ctx, c.workspace, c.run, state, reason) })
}

// write changes the records on behalf of the run, unless that is another's by now.
func (c *execution) write(ctx context.Context, change func(db records.Queries) error) error {
	return c.keep(ctx, func() error {
		return c.o.Store.AsHolder(ctx, c.run, func(db records.Queries, _ pgx.Tx) error { return change(db) })
	})
}

// keepFor is how long writing is tried while the database is gone.
const keepFor = 2 * time.Minute

// keep writes to the records, and waits for a database that is gone for a while.
func (c *execution) keep(ctx context.Context, write func() error) error {
	limit := time.Now().Add(keepFor)
	for {
		err := write()
		if err == nil || !records.Unavailable(err) || time.Now().After(limit) || ctx.Err() != nil {
			return err
		}
		pause(ctx, 200*time.Millisecond)
	}
}
