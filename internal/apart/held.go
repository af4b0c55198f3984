package apart

import (
	"context"
	"time"
)

const (
	// heldFor is how long a process waits for another reading of its text, mostHeld how many
	// do so, mostReadings how often one reads.
	heldFor      = 5 * time.Second
	mostHeld     = 4
	mostReadings = 100
)

// held is a process that has read a text and reads no other: who makes thirty workspaces of
// one commit starts one process, not thirty. What a text could do to it, it did to itself.
type held struct {
	using    chan struct{} // has room for one reading at a time; it guards what follows
	p        *process
	readings int

	users int // guarded by Readers.mu, as is until
	until *time.Timer
}

// with has a text read. of names the text; empty: it is read by a process that reads nothing
// else.
func (r *Readers) with(ctx context.Context, of string, a *answers, q request) (*done, error) {
	if of == "" {
		p, err := r.take()
		if err != nil {
			return nil, err
		}
		defer func() { // only now: what starts takes time from what is read
			p.end()
			r.refillSoon()
		}()
		return p.read(ctx, a, q)
	}
	h := r.hold(of)
	defer r.letGo(of, h)
	select {
	case h.using <- struct{}{}:
	case <-ctx.Done(): // who does not want it any more waits for no other's
		return nil, ctx.Err()
	}
	defer func() { <-h.using }()
	out, err := r.read(ctx, h, a, q)
	if err != nil && ctx.Err() == nil && h.readings > 1 {
		out, err = r.read(ctx, h, a, q) // it may have ended since its last reading
	}
	return out, err
}

func (r *Readers) read(ctx context.Context, h *held, a *answers, q request) (_ *done, err error) {
	if h.p == nil {
		if h.p, err = r.take(); err != nil {
			return nil, err
		}
		h.readings = 0
		defer r.refillSoon()
	}
	h.readings++
	out, err := h.p.read(ctx, a, q)
	if err != nil || h.readings == mostReadings {
		h.p.end()
		h.p = nil
	}
	return out, err
}

func (r *Readers) hold(of string) *held {
	r.mu.Lock()
	defer r.mu.Unlock()
	h := r.texts[of]
	if h == nil {
		h = &held{using: make(chan struct{}, 1)}
		r.texts[of] = h
	}
	h.users++
	if h.until != nil {
		h.until.Stop()
	}
	return h
}

func (r *Readers) letGo(of string, h *held) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if h.users--; h.users > 0 {
		return
	}
	if r.ended || len(r.texts) > mostHeld {
		r.drop(of, h)
		return
	}
	h.until = time.AfterFunc(heldFor, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		if h.users == 0 {
			r.drop(of, h)
		}
	})
}

// drop ends a process that nobody uses.
func (r *Readers) drop(of string, h *held) {
	if r.texts[of] == h {
		delete(r.texts, of)
	}
	if h.p != nil {
		h.p.end()
		h.p = nil
	}
}
