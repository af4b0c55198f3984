package client

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

func serve(t *testing.T, h http.HandlerFunc) *Service {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	c, err := Open(server.URL+"/", "dom_token")
	require.NoError(t, err)
	return c
}

func TestServersAddresses(t *testing.T) {
	for _, bad := range []string{"", "127.0.0.1:4380", "ftp://x", "http://", "://"} {
		_, err := Open(bad, "")
		assert.Equal(t, "bad-server", fault.Code(err), bad)
	}
}

func TestAProblemBecomesAFault(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		assert.Equal(t, "Bearer dom_token", r.Header.Get("Authorization"))
		assert.Equal(t, "/api/v1/workspaces/deck", r.URL.Path)
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = io.WriteString(w, `{"title":"The site is away","status":503,"code":"engine-unavailable","detail":"no answer","remedy":"start it"}`)
	})
	_, err := Answer[Workspace](c.GetWorkspace(t.Context(), "deck"))
	assert.EqualError(t, err, "The site is away: no answer")
	assert.Equal(t, "engine-unavailable", fault.Code(err))
	assert.Equal(t, "start it", fault.Remedy(err))
	assert.True(t, fault.IsTransient(err), "503 may pass")
}

func TestWhatIsNoDomicileIsTold(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "<html>not here</html>", http.StatusNotFound)
	})
	_, err := Answer[Account](c.GetAccount(t.Context()))
	assert.Equal(t, "bad-answer", fault.Code(err))
	assert.ErrorContains(t, err, "404 Not Found")
	assert.Contains(t, fault.Remedy(err), "is it a Domicile service?")
}

func TestAServiceThatIsNotThere(t *testing.T) {
	server := httptest.NewServer(http.NotFoundHandler())
	server.Close()
	c, err := Open(server.URL, "")
	require.NoError(t, err)
	_, err = Answer[Account](c.GetAccount(t.Context()))
	assert.Equal(t, "service-unreachable", fault.Code(err))
	assert.ErrorContains(t, err, "the service at "+server.URL+" does not answer")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Answer[Account](c.GetAccount(ctx))
	assert.ErrorIs(t, err, context.Canceled, "who leaves is not told that the service is away")
}

func TestEvents(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "event: look\ndata: {\"workspace\":\"\"}\n\n: still here\n\nevent: step\ndata: {\"workspace\":\"deck\",\"run\":7,\"state\":\"done\"}\n\nevent: log\ndata: nonsense\n\n")
	})
	var seen []Event
	err := c.Events(t.Context(), false, func(e Event) { seen = append(seen, e) })
	assert.True(t, fault.IsTransient(err), "the stream's end is not the end: %v", err)
	assert.Equal(t, []Event{{Type: "look"}, {Type: "step", Workspace: "deck", Run: 7, State: "done"}}, seen)
}

// A service that is there and says nothing keeps nobody waiting for ever.
func TestASilentService(t *testing.T) {
	release := make(chan struct{})
	defer close(release)
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/version") {
			_, _ = io.WriteString(w, `{"version":"1","ssh":"127.0.0.1:1","hostKey":"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIO5q6Wd3VhTmSZ1tzqk3mXr9q3d1oYqDfZ5y0zZk1u2b"}`)
			return
		}
		upgrader := websocket.Upgrader{}
		socket, err := upgrader.Upgrade(w, r, nil)
		if err == nil {
			<-release
			socket.Close()
		}
	})
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err := c.SSH(ctx, "deck")
	assert.ErrorContains(t, err, "open SSH to deck")
}
