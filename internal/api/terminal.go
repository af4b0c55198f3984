package api

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/gorilla/websocket"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/wsconn"
)

// upgrader takes WebSockets from our own pages and from programs, which send no origin.
var upgrader = websocket.Upgrader{ReadBufferSize: 32 << 10, WriteBufferSize: 32 << 10, CheckOrigin: func(r *http.Request) bool {
	origin := r.Header.Get("Origin")
	u, err := url.Parse(origin)
	return origin == "" || (err == nil && u.Host == r.Host)
}}

// terminal joins a WebSocket to a terminal inside a workspace. The program in it goes on
// when the socket is lost; the same name comes back to it.
func (s *Server) terminal(w http.ResponseWriter, r *http.Request) {
	workspace, err := s.ready(r.Context(), chi.URLParam(r, "name"))
	if err != nil {
		s.failed(w, r, err)
		return
	}
	link, err := s.o.Runner.Reach(r.Context(), workspace)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	client := ssh.NewClient(link.Conn, link.Channels, link.Requests)
	defer client.Close()
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return // the upgrader has answered
	}
	defer socket.Close()
	_ = s.o.Store.Touch(r.Context(), workspace.ID)
	defer s.o.Gateway.Arrive(workspace, func() { client.Close() })()
	if err := joinTerminal(socket, client, r.URL.Query()); err != nil {
		s.o.Log.Debug("terminal", "workspace", workspace.Name, "error", err)
	}
}

type size struct{ Columns, Rows int }

func joinTerminal(socket *websocket.Conn, client *ssh.Client, q url.Values) error {
	session, err := client.NewSession()
	if err != nil {
		return closeWith(socket, err)
	}
	defer session.Close()
	if name := q.Get("terminal"); name != "" {
		if err := session.Setenv(wire.TerminalName, name); err != nil {
			return closeWith(socket, err)
		}
	}
	columns, rows := number(q.Get("columns"), 80), number(q.Get("rows"), 24)
	if err := session.RequestPty("xterm-256color", rows, columns, ssh.TerminalModes{}); err != nil {
		return closeWith(socket, err)
	}
	in, err := session.StdinPipe()
	if err != nil {
		return err
	}
	out := wsconn.New(socket)
	session.Stdout, session.Stderr = out, out
	if err := session.Shell(); err != nil {
		return closeWith(socket, err)
	}
	go func() {
		defer client.Close() // the page is gone
		for {
			kind, b, err := socket.ReadMessage()
			if err != nil {
				return
			}
			var to size
			switch {
			case kind == websocket.BinaryMessage:
				if _, err := in.Write(b); err != nil {
					return
				}
			case json.Unmarshal(b, &to) == nil && to.Columns > 0 && to.Rows > 0:
				_ = session.WindowChange(to.Rows, to.Columns)
			}
		}
	}()
	err = session.Wait()
	var exit *ssh.ExitError
	status := 0
	if errors.As(err, &exit) {
		status, err = exit.ExitStatus(), nil
	}
	if err == nil {
		err = out.WriteText([]byte(`{"exit":` + strconv.Itoa(status) + `}`))
	}
	return errors.Join(err, closeWith(socket, nil))
}

func number(s string, fallback int) int {
	if n, err := strconv.Atoi(s); err == nil && n > 0 && n < 1000 {
		return n
	}
	return fallback
}

func closeWith(socket *websocket.Conn, err error) error {
	code, text := websocket.CloseNormalClosure, ""
	if err != nil {
		code, text = websocket.CloseInternalServerErr, err.Error()
	}
	message := websocket.FormatCloseMessage(code, text[:min(len(text), 120)])
	return errors.Join(err, socket.WriteControl(websocket.CloseMessage, message, time.Now().Add(time.Second)))
}

// tunnel serves SSH over a WebSocket, for clients that hold a token instead of a key, and
// where only HTTPS gets through.
func (s *Server) tunnel(w http.ResponseWriter, r *http.Request) {
	workspace, err := s.ready(r.Context(), chi.URLParam(r, "name"))
	if err != nil {
		s.failed(w, r, err)
		return
	}
	if id := r.URL.Query().Get("stream"); id != "" {
		s.longTunnel(w, r, workspace, id)
		return
	}
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return // the upgrader has answered
	}
	s.o.Gateway.ServeTunnel(r.Context(), wsconn.New(socket), workspace)
}
