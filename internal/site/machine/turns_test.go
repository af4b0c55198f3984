package machine

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// One at a time has the turn of a name, nobody waits beyond their time, and nothing stays of a
// name that nobody wants.
func TestTurns(t *testing.T) {
	var ts Turns
	n := 0
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			assert.NoError(t, ts.Take(t.Context(), "w1", func() error { n++; return nil }))
		})
	}
	all.Wait()
	assert.Equal(t, 50, n)
	require.NoError(t, ts.Take(t.Context(), "w1", func() error {
		late, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
		defer cancel()
		assert.ErrorIs(t, ts.Take(late, "w1", func() error { return nil }), context.DeadlineExceeded)
		return ts.Take(t.Context(), "w2", func() error { return nil }) // another name's
	}))
	assert.Empty(t, ts.now)
}
