package run

import (
	"context"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"domicile/internal/site"
)

// busyServices are services that take so much of a processor's time.
type busyServices struct {
	site.Overseer
	took time.Duration
}

func (w *busyServices) Worked(context.Context, string) (time.Duration, error) { return w.took, nil }

// A service that works is waited for, however slow its machine is; one that does nothing is not.
func TestServicesThatMoveAreWaitedFor(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := &busyServices{}
		c := &execution{}
		c.at.can.Overseer = w
		s := stillness{since: time.Now()}
		list := []site.Service{{Name: "db", Started: true, Running: true, Health: "starting"}}
		for range 100 { // it works for a quarter of an hour
			time.Sleep(10 * time.Second)
			w.took += time.Second
			assert.Zero(t, c.moves(t.Context(), "w1", list, &s))
		}
		for range 40 { // and then waits, but for its health check
			time.Sleep(10 * time.Second)
			w.took += 20 * time.Millisecond
			c.moves(t.Context(), "w1", list, &s)
		}
		assert.Greater(t, c.moves(t.Context(), "w1", list, &s), servicePatience)
		list = []site.Service{{Name: "db", Started: true, Running: true, Health: "healthy"}}
		assert.Zero(t, c.moves(t.Context(), "w1", list, &s), "a change of its state is a movement")
	})
}
