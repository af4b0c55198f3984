package run

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"domicile/internal/records"
)

// Services that work are a use, those that only wait are none.
func TestServicesThatWorkKeepAWorkspace(t *testing.T) {
	r := &Runner{works: map[int64]work{}}
	now := time.Now()
	after := func(passed, worked time.Duration) time.Duration {
		now = now.Add(passed)
		return r.idleSince(1, worked, now)
	}
	assert.Zero(t, after(0, time.Hour), "nothing is known yet")
	assert.Equal(t, time.Minute, after(time.Minute, time.Hour+time.Second))
	assert.Equal(t, 2*time.Minute, after(time.Minute, time.Hour+2*time.Second))
	assert.Zero(t, after(time.Minute, time.Hour+20*time.Second), "a third of a processor")
	assert.Equal(t, time.Minute, after(time.Minute, time.Hour+20*time.Second))
	assert.Zero(t, after(time.Minute, 0), "they were started anew")
	assert.Zero(t, r.idleSince(2, 0, now), "each workspace for itself")
}

func TestWhoHasJustBecomeReadyIsNotAskedAtOnce(t *testing.T) {
	r := &Runner{asked: map[int64]time.Time{}}
	w := records.Workspace{ID: 1}
	assert.False(t, r.turnToAsk(w, time.Hour))
	r.asked[1] = time.Now().Add(-2 * askAtMost)
	assert.True(t, r.turnToAsk(w, time.Hour))
	assert.False(t, r.turnToAsk(w, time.Hour), "it was asked just now")
	w.StopsAt = new(time.Now())
	assert.True(t, r.turnToAsk(w, time.Hour), "one that is about to stop is asked each time")
}
