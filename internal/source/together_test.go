package source

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nobody gets an answer to a question that was asked before they came, and those who wait
// share one.
func TestAnswersAreSharedAndNeverOld(t *testing.T) {
	var all together
	var asked atomic.Int64
	var value atomic.Int64
	under, go1 := make(chan struct{}), make(chan struct{})
	ask := func(context.Context) (tip, error) {
		if asked.Add(1) == 1 {
			seen := value.Load()
			close(under)
			<-go1
			return tip{commit: fmt.Sprint(seen)}, nil
		}
		return tip{commit: fmt.Sprint(value.Load())}, nil
	}
	var first sync.WaitGroup
	first.Go(func() {
		got, err := all.ask(t.Context(), "k", time.Time{}, ask)
		assert.NoError(t, err)
		assert.Equal(t, "0", got.commit)
	})
	<-under
	value.Store(1) // pushed meanwhile
	var later sync.WaitGroup
	started := make(chan struct{}, 20)
	for range 20 {
		later.Go(func() {
			started <- struct{}{}
			got, err := all.ask(t.Context(), "k", time.Time{}, ask)
			assert.NoError(t, err)
			assert.Equal(t, "1", got.commit, "an answer from before the push is not theirs")
		})
	}
	for range 20 {
		<-started
	}
	close(go1)
	first.Wait()
	later.Wait()
	assert.LessOrEqual(t, asked.Load(), int64(21))
	_, err := all.ask(t.Context(), "other", time.Time{}, func(context.Context) (tip, error) { return tip{}, errors.New("away") })
	require.ErrorContains(t, err, "away")
	assert.Empty(t, all.asked)
	assert.Empty(t, all.waiting)
}

// Who waits for a turn takes an answer that was asked for after they came, and no other.
func TestAnAnswerServesThoseWhoCameBeforeIt(t *testing.T) {
	var all together
	asked := 0
	ask := func(err error) func(context.Context) (tip, error) {
		return func(context.Context) (tip, error) {
			asked++
			return tip{commit: fmt.Sprint(asked)}, err
		}
	}
	commit := func(came time.Time) string {
		t.Helper()
		got, err := all.ask(t.Context(), "k", came, ask(nil))
		require.NoError(t, err)
		return got.commit
	}
	before := time.Now()
	assert.Equal(t, "1", commit(before), "there is none yet")
	assert.Equal(t, "1", commit(before))
	assert.Equal(t, "2", commit(time.Now()), "who comes now wants a new one")
	assert.Equal(t, "2", commit(before), "and the newest is everybody's")
	assert.Equal(t, "3", commit(time.Time{}))
	after := time.Now()
	_, err := all.ask(t.Context(), "k", after, ask(errors.New("away")))
	require.Error(t, err)
	assert.Equal(t, "5", commit(after), "no answer is none")
	assert.Equal(t, "5", commit(before))
}

// Who leaves does not take the answer from the others.
func TestWhoLeavesDoesNotEndTheQuestion(t *testing.T) {
	var all together
	gone, leave := context.WithCancel(t.Context())
	under, on := make(chan struct{}), make(chan struct{})
	left := make(chan error)
	go func() {
		_, err := all.ask(gone, "k", time.Time{}, func(ctx context.Context) (tip, error) {
			close(under)
			<-on
			return tip{commit: "c"}, ctx.Err()
		})
		left <- err
	}()
	<-under
	all.mu.Lock()
	q := all.asked["k"]
	all.mu.Unlock()
	leave()
	assert.ErrorIs(t, <-left, context.Canceled)
	close(on)
	<-q.done
	assert.NoError(t, q.err)
	assert.Equal(t, "c", q.tip.commit)
}

func TestQuestionsOfDifferentPeopleAreApart(t *testing.T) {
	a := Want{Address: Address{Git: "https://h/x"}}
	b := a
	b.Login = &Login{Token: "t0ken"}
	c := a
	c.Login = &Login{Token: "an0ther"}
	assert.NotEqual(t, a.identity(), b.identity())
	assert.NotEqual(t, b.identity(), c.identity())
	assert.NotContains(t, b.identity(), "t0ken")
}
