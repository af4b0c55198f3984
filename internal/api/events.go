package api

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"domicile/internal/records"
)

// hub passes the database's notices on to the streams of this instance.
type hub struct {
	store *records.Store
	log   *slog.Logger
	mu    sync.Mutex
	subs  map[chan records.Event]int64 // by account
	// guests holds something where invitations may have changed.
	guests chan struct{}
}

func newHub(store *records.Store, log *slog.Logger) *hub {
	return &hub{store: store, log: log, subs: map[chan records.Event]int64{}, guests: make(chan struct{}, 1)}
}

const listenPause = 500 * time.Millisecond

func (h *hub) serve(ctx context.Context) {
	for ctx.Err() == nil {
		// After a gap nobody knows what was missed: everybody looks again.
		err := h.store.Listen(ctx, func() { h.pass(records.Event{Type: "look"}) }, h.pass)
		if ctx.Err() == nil {
			h.log.Warn("listen for changes", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(listenPause):
		}
	}
}

func (h *hub) pass(e records.Event) {
	if e.Type == guestsChanged || e.Type == "look" {
		select {
		case h.guests <- struct{}{}:
		default: // who takes it looks at them all
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for c, account := range h.subs {
		if e.Account != account && e.Account != 0 {
			continue
		}
		select {
		case c <- e:
		default: // it does not keep up: the event it will see next makes it look again
		}
	}
}

func (h *hub) subscribe(account int64) (<-chan records.Event, func()) {
	c := make(chan records.Event, 256)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.subs[c] = account
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.subs, c)
	}
}

// portsChanged is the type of the event that a program has begun to listen, or has ended.
const portsChanged = "ports"

// guestsChanged is the type of the event that an invitation was made, changed or ended.
const guestsChanged = "guests"

// heartbeat keeps a quiet stream from being taken for dead.
const heartbeat = 15 * time.Second

// events streams the account's changes. The first event, look, says that the stream stands.
func (s *Server) events(w http.ResponseWriter, r *http.Request) {
	events, stop := s.hub.subscribe(account(r.Context()).ID)
	defer stop()
	kept := &portsKept{server: s, account: account(r.Context()).ID, kept: map[int64]func(){}}
	defer kept.releaseAll()
	withPorts := r.URL.Query().Get("ports") == "true"
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	closed, err := s.o.Gateway.Opened(credentialOf(ctx), cancel)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	defer closed()
	stream := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	write := func(e records.Event) bool {
		if e.Type == portsChanged && !withPorts {
			return true
		}
		if withPorts && (e.Type == "look" || e.Type == "workspace") {
			kept.look(r.Context())
		}
		v := Event{Workspace: e.Workspace, Run: zero(e.Run), State: optional(e.State)}
		b, err := json.Marshal(v)
		if err != nil {
			return false
		}
		_, err = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", e.Type, b)
		return err == nil && stream.Flush() == nil
	}
	if !write(records.Event{Type: "look"}) {
		return
	}
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil || stream.Flush() != nil {
				return
			}
		case e := <-events:
			if !write(e) {
				return
			}
		}
	}
}

func zero[T comparable](v T) *T {
	var none T
	if v == none {
		return nil
	}
	return &v
}

// Event is the body of a server-sent event; the contract describes it.
type Event struct {
	Workspace string  `json:"workspace"`
	Run       *int64  `json:"run,omitempty"`
	State     *string `json:"state,omitempty"`
}
