package api

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"domicile/internal/gateway"
	"domicile/internal/records"
	"domicile/internal/wsconn"
)

// ShowScreen is what a workspace's screen shows.
func (s *Server) ShowScreen(ctx context.Context, q ShowScreenRequestObject) (ShowScreenResponseObject, error) {
	w, err := s.ready(ctx, q.Name)
	if err != nil {
		return nil, err
	}
	picture, err := s.o.Runner.Picture(ctx, w)
	if err != nil {
		return nil, err
	}
	return ShowScreen200ImagepngResponse{Body: bytes.NewReader(picture), ContentLength: int64(len(picture))}, nil
}

// screen joins a WebSocket to a workspace's screen.
func (s *Server) screen(w http.ResponseWriter, r *http.Request) {
	workspace, err := s.ready(r.Context(), chi.URLParam(r, "name"))
	if err != nil {
		s.failed(w, r, err)
		return
	}
	shown, err := s.o.Runner.Screen(r.Context(), workspace)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	defer shown.Close()
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return // the upgrader has answered
	}
	viewer := wsconn.New(socket)
	defer viewer.Close()
	end := func() { shown.Close(); viewer.Close() }
	leave, err := s.o.Gateway.Arrive(r.Context(), gateway.Visit{Workspace: workspace, By: credentialOf(r.Context())}, r.RemoteAddr, end)
	if err != nil {
		s.o.Log.Debug("screen", "workspace", workspace.Name, "error", err)
		return
	}
	defer leave()
	var both sync.WaitGroup
	both.Go(func() {
		defer end()
		_, _ = io.Copy(viewer, shown)
	})
	both.Go(func() {
		defer end()
		s.watchViewer(r.Context(), workspace, shown, viewer)
	})
	both.Wait()
}

// What a viewer sends that is a person's doing (RFC 6143, section 7.5): keys, the pointer, and text.
const firstInput, lastInput = 4, 6

// usedEvery is how often it is noted that a screen is used.
const usedEvery = 10 * time.Second

// watchViewer passes on what a viewer sends, and notes that the workspace is used where a person
// does something: a screen that is only open is no use. Viewers send a key or a movement as one
// message; what else happens to look like one makes a workspace stay a little longer.
func (s *Server) watchViewer(ctx context.Context, w records.Workspace, to net.Conn, from io.Reader) {
	var noted time.Time
	for b := make([]byte, 32<<10); ; {
		n, err := from.Read(b)
		if n > 0 && b[0] >= firstInput && b[0] <= lastInput && time.Since(noted) > usedEvery {
			noted = time.Now()
			_ = s.o.Store.Touch(ctx, w.ID)
		}
		if err != nil {
			return
		}
		if _, err := to.Write(b[:n]); err != nil {
			return
		}
	}
}
