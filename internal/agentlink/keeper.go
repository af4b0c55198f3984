package agentlink

import (
	"sync/atomic"
	"time"
)

// keeper gives what a terminal has printed back to the agent, which keeps it, a moment after it was printed:
// no key waits for that. And it ends the waiting for a person's connection that takes nothing any more.
type keeper struct {
	settle, stalled func()
	runs            atomic.Bool
	since           atomic.Int64 // when the printing began, in nanoseconds since 1970; 0: nothing is being printed
}

// keepEvery is how late the agent may hear of what was printed.
const keepEvery = 20 * time.Millisecond

func (k *keeper) begin() {
	k.since.Store(time.Now().UnixNano())
	if !k.runs.Load() && k.runs.CompareAndSwap(false, true) {
		time.AfterFunc(keepEvery, k.look)
	}
}

func (k *keeper) end() { k.since.Store(0) }

func (k *keeper) look() {
	since := k.since.Load()
	switch {
	case since == 0:
		k.runs.Store(false) // what is printed from now on begins anew
		k.settle()
	case time.Since(time.Unix(0, since)) < stalledAfter:
		time.AfterFunc(keepEvery, k.look)
	default:
		k.stalled()
	}
}
