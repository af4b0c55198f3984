package machine

import (
	"context"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
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

// Who shares a folder waits for each other, too, whatever the name is.
func TestTurnsOfSeveralServices(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "turns")
	one, other := Turns{Folder: folder}, Turns{Folder: folder}
	const name = "../the room"
	var inside, done atomic.Int32
	var all sync.WaitGroup
	for range 10 {
		for _, ts := range []*Turns{&one, &other} {
			all.Go(func() {
				assert.NoError(t, ts.Take(t.Context(), name, func() error {
					assert.EqualValues(t, 1, inside.Add(1))
					runtime.Gosched()
					inside.Add(-1)
					done.Add(1)
					return nil
				}))
			})
		}
	}
	all.Wait()
	assert.EqualValues(t, 20, done.Load())
	require.NoError(t, one.Take(t.Context(), name, func() error {
		late, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
		defer cancel()
		assert.ErrorIs(t, other.Take(late, name, func() error { return nil }), context.DeadlineExceeded)
		return other.Take(t.Context(), "w2", func() error { return nil })
	}))
	outside, err := filepath.Glob(filepath.Join(filepath.Dir(folder), "*"))
	require.NoError(t, err)
	assert.Equal(t, []string{folder}, outside, "a name is no path")
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing stays of a name that nobody wants")
}
