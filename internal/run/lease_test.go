package run

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"domicile/internal/records"
)

// Work ends before another one may have taken it: when the lease is known to be lost, or
// could not be renewed in time.
func TestALeaseThatIsNotRenewedEndsTheWork(t *testing.T) {
	gone := errors.New("the database is away")
	hangs := func(ctx context.Context, _ time.Duration) error { <-ctx.Done(); return ctx.Err() }
	for name, c := range map[string]struct {
		renew func(ctx context.Context, since time.Duration) error
		cause error
		by    time.Duration // the work has ended at the latest
	}{
		"it is another's":        {func(context.Context, time.Duration) error { return records.ErrLost }, records.ErrLost, 2 * renewEvery},
		"nobody answers":         {hangs, errNotRenewed, records.Lease},
		"all answers are errors": {func(context.Context, time.Duration) error { return gone }, errNotRenewed, records.Lease},
		"it fails, and is kept": {func(_ context.Context, since time.Duration) error {
			return map[bool]error{true: gone}[since%(20*time.Second) > 5*time.Second]
		}, nil, 0},
		"it hangs, and goes on": {func(ctx context.Context, since time.Duration) error {
			if since < 15*time.Second {
				return hangs(ctx, since)
			}
			return nil
		}, nil, 0},
		"it is kept all the time": {func(context.Context, time.Duration) error { return nil }, nil, 0},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				begun := time.Now()
				ctx, cancel := context.WithCancelCause(t.Context())
				go keepLease(ctx, func(ctx context.Context) error { return c.renew(ctx, time.Since(begun)) }, cancel)
				watched, stop := context.WithTimeout(ctx, 5*time.Minute)
				defer stop()
				<-watched.Done()
				if c.cause == nil {
					assert.NoError(t, ctx.Err(), "ended after %s: %v", time.Since(begun), context.Cause(ctx))
					cancel(nil)
					return
				}
				assert.ErrorIs(t, context.Cause(ctx), c.cause)
				assert.LessOrEqual(t, time.Since(begun), c.by)
			})
		})
	}
}
