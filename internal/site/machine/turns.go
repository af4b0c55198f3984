package machine

import (
	"context"
	"sync"

	"golang.org/x/sync/semaphore"
)

// Turns lets one thing at a time be done to what a name stands for, in this process.
type Turns struct {
	mu  sync.Mutex
	now map[string]*turn
}

type turn struct {
	free    *semaphore.Weighted
	wanting int // who has it or waits for it
}

// Take does something when its turn has come. Who has no more time does not wait for it.
func (t *Turns) Take(ctx context.Context, name string, do func() error) error {
	t.mu.Lock()
	if t.now == nil {
		t.now = map[string]*turn{}
	}
	mine := t.now[name]
	if mine == nil {
		mine = &turn{free: semaphore.NewWeighted(1)}
		t.now[name] = mine
	}
	mine.wanting++
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if mine.wanting--; mine.wanting == 0 {
			delete(t.now, name)
		}
	}()
	if err := mine.free.Acquire(ctx, 1); err != nil {
		return err
	}
	defer mine.free.Release(1)
	return do()
}
