package agent

import (
	"context"
	"io"
	"sync"
	"time"
)

// hands tell whether a terminal is read here or by the service. The zero value is that it is here.
type hands struct {
	mu     sync.Mutex
	recall func()        // asks for it; nil: it is here
	here   chan struct{} // closed when it is back
	wanted int           // how many want it here

	waits, goOn chan struct{} // that the reader waits, and that it may go on; nil: it need not
}

// give notes that the service has the terminal until back is called.
func (h *hands) give(recall func()) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.recall != nil || h.wanted > 0 {
		return false
	}
	h.recall, h.here = recall, make(chan struct{})
	return true
}

func (h *hands) back() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.recall = nil
	close(h.here)
}

// whileHere calls f when the terminal is here, and stays so meanwhile.
func (h *hands) whileHere(f func()) {
	h.mu.Lock()
	h.wanted++
	recall, here := h.recall, h.here
	h.mu.Unlock()
	if recall != nil {
		recall()
		<-here
	}
	f()
	h.mu.Lock()
	defer h.mu.Unlock()
	h.wanted--
}

// pause has the reader of a terminal wait until resume is called.
func (h *hands) pause(ctx context.Context, t *terminal) (resume func(), err error) {
	h.mu.Lock()
	waits, goOn := make(chan struct{}), make(chan struct{})
	h.waits, h.goOn = waits, goOn
	h.mu.Unlock()
	t.master.readBefore(time.Unix(1, 0))
	select {
	case <-waits:
		return func() { close(goOn) }, nil
	case <-t.over:
		err = io.EOF
	case <-ctx.Done():
		err = ctx.Err()
	}
	close(goOn) // it may still come to wait
	return nil, err
}

// waited is called by the reader when its time was over: it waits where that was why.
func (h *hands) waited() bool {
	h.mu.Lock()
	waits, goOn := h.waits, h.goOn
	h.waits, h.goOn = nil, nil
	h.mu.Unlock()
	if goOn == nil {
		return false
	}
	close(waits)
	<-goOn
	return true
}
