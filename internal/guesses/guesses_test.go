package guesses

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Guesses become slow, a slip does not, and nobody is kept out by somebody else's guesses.
func TestGuessesAreSlowed(t *testing.T) {
	s := New()
	now := time.Unix(1_000_000, 0)
	s.now = func() time.Time { return now }
	try := func(name, from string, ok bool) time.Duration {
		wait, end, err := s.Begin(t.Context(), name, from)
		require.NoError(t, err)
		if wait == 0 {
			end()
			s.Ended(name, from, ok)
		}
		return wait
	}
	for range freeTries {
		assert.Zero(t, try("finn", "10.0.0.9", false), "a slip")
	}
	assert.Positive(t, try("finn", "10.0.0.9", true), "too many, also for the right one")
	assert.Zero(t, try("finn", "10.0.0.1", true), "the owner, from elsewhere")
	assert.Zero(t, try("skipper", "10.0.0.9", true), "another account, from there")
	tried, begun := 0, now
	for now.Sub(begun) < time.Hour {
		wait := try("finn", "10.0.0.9", false)
		if wait == 0 {
			tried++
		}
		now = now.Add(max(wait, time.Millisecond))
	}
	assert.Less(t, tried, 40, "guesses in an hour")

	for i := range 1000 { // many addresses, one account
		try("finn", "10.1."+string(rune('0'+i/100))+"."+string(rune('0'+i%100)), false)
	}
	assert.LessOrEqual(t, try("finn", "10.0.0.1", true), longestAccount, "its owner waits a little")
	now = now.Add(triesForgotten + time.Second)
	assert.Zero(t, try("finn", "10.0.0.9", true), "it is forgotten some time")
}

// Who floods waits behind himself.
func TestOneAddressTakesOnePlace(t *testing.T) {
	s := New()
	_, end, err := s.Begin(t.Context(), "finn", "10.0.0.9")
	require.NoError(t, err)
	waiting := make(chan func())
	for range inLine - 1 {
		go func() {
			_, end, err := s.Begin(t.Context(), "finn", "10.0.0.9")
			assert.NoError(t, err)
			waiting <- end
		}()
	}
	require.Eventually(t, func() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.line["10.0.0.9"].long == inLine }, 10*time.Second, time.Millisecond)
	_, _, err = s.Begin(t.Context(), "finn", "10.0.0.9")
	assert.ErrorContains(t, err, "many passwords")
	_, other, err := s.Begin(t.Context(), "finn", "10.0.0.1")
	require.NoError(t, err, "nobody else waits for them")
	other()
	end()
	for range inLine - 1 {
		(<-waiting)()
	}
	assert.Empty(t, s.line)
}
