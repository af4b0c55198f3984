package agent

import (
	"context"
	"io"
	"sync"
	"time"
)

// stallAfter is how long a reader may take nothing before it no longer holds the writer
// up: a laptop that went to sleep must not stop the program in the terminal.
const stallAfter = 10 * time.Second

// history keeps the end of an output and lets any number of readers follow it, each from
// the oldest byte kept. A reader that lags holds the writer up, as a terminal does,
// unless it has stalled; then it misses what was pushed out.
type history struct {
	mu      sync.Mutex
	changed *sync.Cond
	kept    []byte // the last bytes, at most limit
	limit   int
	end     int64 // number of bytes ever written
	closed  bool
	readers map[*historyReader]struct{}
}

func newHistory(limit int) *history {
	h := &history{limit: limit, readers: map[*historyReader]struct{}{}}
	h.changed = sync.NewCond(&h.mu)
	return h
}

// Write adds output. It never fails.
func (h *history) Write(p []byte) (int, error) {
	n := len(p)
	h.mu.Lock()
	defer h.mu.Unlock()
	for len(p) > 0 {
		chunk := p[:min(len(p), h.limit/2)]
		h.waitForReaders(len(chunk))
		if over := len(h.kept) + len(chunk) - h.limit; over > 0 {
			h.kept = append(h.kept[:0], h.kept[over:]...)
		}
		h.kept = append(h.kept, chunk...)
		h.end += int64(len(chunk))
		p = p[len(chunk):]
		h.changed.Broadcast()
	}
	return n, nil
}

// waitForReaders waits until adding n bytes pushes out none that a reader still wants.
func (h *history) waitForReaders(n int) {
	for h.lagging(n) {
		// A condition variable has no time limit; the timer's broadcast wakes the wait.
		timer := time.AfterFunc(stallAfter, h.changed.Broadcast)
		h.changed.Wait()
		timer.Stop()
	}
}

func (h *history) lagging(n int) bool {
	now, lagging := time.Now(), false
	for r := range h.readers {
		if r.stalled || r.overhear || r.held || h.end+int64(n)-r.at <= int64(h.limit) {
			continue
		}
		if now.Sub(r.progress) >= stallAfter {
			r.stalled = true
			continue
		}
		lagging = true
	}
	return lagging
}

// Close ends the output; readers get what is left and then io.EOF.
func (h *history) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	h.changed.Broadcast()
}

// historyReader follows a history.
type historyReader struct {
	h        *history
	at       int64
	progress time.Time
	stalled  bool
	overhear bool // it never holds the writer up
	closed   bool
	held     bool  // it is told nothing for a while
	taken    int64 // number of bytes ever read
}

// follow makes a reader that starts with the oldest byte kept. It must be closed, else it
// holds the writer up until it counts as stalled.
func (h *history) follow() *historyReader { return h.read(false) }

// overhear makes a reader as follow does, for somebody whom the program does not wait for: it misses
// what was pushed out.
func (h *history) overhear() *historyReader { return h.read(true) }

func (h *history) read(overhear bool) *historyReader {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := &historyReader{h: h, at: h.end - int64(len(h.kept)), progress: time.Now(), overhear: overhear}
	h.readers[r] = struct{}{}
	return r
}

// Read waits for output. It returns io.EOF when the output or the reader was closed.
func (r *historyReader) Read(p []byte) (int, error) {
	r.h.mu.Lock()
	defer r.h.mu.Unlock()
	for (r.at >= r.h.end && !r.h.closed || r.held) && !r.closed {
		r.h.changed.Wait()
	}
	if r.closed || r.at >= r.h.end {
		return 0, io.EOF
	}
	start := r.h.end - int64(len(r.h.kept))
	r.at = max(r.at, start)
	n := copy(p, r.h.kept[r.at-start:])
	r.at += int64(n)
	r.taken += int64(n)
	r.progress, r.stalled = time.Now(), false
	r.h.changed.Broadcast()
	return n, nil
}

// hold has the reader be told nothing any more once it knows all, and tells how many bytes it has read.
// It gives up when ctx ends.
func (r *historyReader) hold(ctx context.Context) (taken int64, err error) {
	stop := context.AfterFunc(ctx, func() {
		r.h.mu.Lock()
		defer r.h.mu.Unlock()
		r.h.changed.Broadcast()
	})
	defer stop()
	r.h.mu.Lock()
	defer r.h.mu.Unlock()
	for r.at < r.h.end && !r.closed && ctx.Err() == nil {
		r.h.changed.Wait()
	}
	switch {
	case r.closed || r.h.closed:
		return 0, io.EOF
	case ctx.Err() != nil:
		return 0, ctx.Err()
	}
	r.held = true
	return r.taken, nil
}

// release has the reader go on with what is written from now on.
func (r *historyReader) release() {
	r.h.mu.Lock()
	defer r.h.mu.Unlock()
	r.held, r.at, r.progress = false, r.h.end, time.Now()
	r.h.changed.Broadcast()
}

// Close lets the writer forget the reader.
func (r *historyReader) Close() {
	r.h.mu.Lock()
	defer r.h.mu.Unlock()
	r.closed = true
	delete(r.h.readers, r)
	r.h.changed.Broadcast()
}
