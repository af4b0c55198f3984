package api

import (
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/records"
)

func TestProblems(t *testing.T) {
	cases := []struct {
		err    error
		status int
		code   string
		remedy bool
	}{
		{fault.New("busy", "wait", "busy"), http.StatusConflict, "busy", true},
		{fmt.Errorf("outer: %w", fault.New("bad-name", "another", "x")), http.StatusBadRequest, "bad-name", true},
		{records.ErrNotFound, http.StatusNotFound, "not-found", false},
		{records.FromDatabase(&pgconn.PgError{Code: "57P01"}), http.StatusServiceUnavailable, "database-unavailable", true},
		{fault.New("disk-full", "free some", "full"), http.StatusServiceUnavailable, "disk-full", true},
		{fmt.Errorf("ask an agent: %w", os.ErrDeadlineExceeded), http.StatusInternalServerError, "internal", false},
		{&pgconn.PgError{Code: "42601"}, http.StatusInternalServerError, "internal", false},
		{errors.New("surprise"), http.StatusInternalServerError, "internal", false},
	}
	for _, c := range cases {
		p := problemOf(c.err)
		assert.Equal(t, c.status, p.Status, "%v", c.err)
		assert.Equal(t, c.code, p.Code)
		assert.Equal(t, c.remedy, p.Remedy != nil)
		assert.NotEmpty(t, p.Title)
	}
	w := httptest.NewRecorder()
	writeProblem(w, problemOf(records.FromDatabase(&pgconn.PgError{Code: "57P01"})))
	assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
	assert.NotEmpty(t, w.Header().Get("Retry-After"))
}

func TestEventsGoToTheirAccountAndNobodyIsHeldUp(t *testing.T) {
	h := newHub(nil, slog.New(slog.DiscardHandler))
	mine, stop := h.subscribe(1)
	theirs, stopTheirs := h.subscribe(2)
	defer stopTheirs()
	h.pass(records.Event{Type: "run", Account: 1, Workspace: "deck"})
	h.pass(records.Event{Type: "look"}) // for everybody
	assert.Equal(t, "deck", (<-mine).Workspace)
	assert.Equal(t, "look", (<-mine).Type)
	assert.Equal(t, "look", (<-theirs).Type)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range 1000 { // nobody reads
			h.pass(records.Event{Type: "log", Account: 1})
		}
	}()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("one who does not read holds the others up")
	}
	stop()
	h.pass(records.Event{Type: "log", Account: 1})
}

func TestNewAccounts(t *testing.T) {
	assert.NoError(t, checkNewAccount("finn.o-brien_2", "long enough for all"))
	for _, name := range []string{"", "Finn", "1finn", "finn x", "../finn", "finn@skerry"} {
		assert.Equal(t, "bad-name", fault.Code(checkNewAccount(name, "long enough for all")), name)
	}
	assert.Equal(t, "short-password", fault.Code(checkNewAccount("finn", "short")))
}

func TestPagesOfOthersCannotFrameOrScriptTheConsole(t *testing.T) {
	w := httptest.NewRecorder()
	secure(http.NotFoundHandler()).ServeHTTP(w, httptest.NewRequest(http.MethodGet, "/", nil))
	assert.Contains(t, w.Header().Get("Content-Security-Policy"), "frame-ancestors 'none'")
	assert.Equal(t, "nosniff", w.Header().Get("X-Content-Type-Options"))
}

func TestSocketsOfOtherPagesAreRefused(t *testing.T) {
	r := httptest.NewRequest(http.MethodGet, "http://domicile.skerry.test/x", nil)
	for origin, ok := range map[string]bool{"": true, "http://domicile.skerry.test": true, "https://domicile.skerry.test": true, "http://elsewhere.skerry.test": false, "null": false, "://": false} {
		r.Header.Set("Origin", origin)
		require.Equal(t, ok, upgrader.CheckOrigin(r), origin)
	}
}
