package source

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"

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
		got, err := all.ask(t.Context(), "k", ask)
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
			got, err := all.ask(t.Context(), "k", ask)
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
	_, err := all.ask(t.Context(), "other", func(context.Context) (tip, error) { return tip{}, errors.New("away") })
	require.ErrorContains(t, err, "away")
	assert.Empty(t, all.asked)
	assert.Empty(t, all.waiting)
}

// Who leaves does not take the answer from the others.
func TestWhoLeavesDoesNotEndTheQuestion(t *testing.T) {
	var all together
	gone, leave := context.WithCancel(t.Context())
	under, on := make(chan struct{}), make(chan struct{})
	left := make(chan error)
	go func() {
		_, err := all.ask(gone, "k", func(ctx context.Context) (tip, error) {
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
