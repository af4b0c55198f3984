package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/gorilla/websocket"

	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/gateway"
	"domicile/internal/records"
	"domicile/internal/splice"
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
	may := records.MayType
	if r.URL.Query().Get("look") == "true" {
		may = records.MayLook
	}
	v, err := s.comes(r.Context(), chi.URLParam(r, "name"), may)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	link, err := s.o.Runner.Reach(r.Context(), v.Workspace)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	defer link.Quiet().Close()
	if may == records.MayLook {
		s.look(w, r, v, link)
		return
	}
	_ = s.o.Store.Touch(r.Context(), v.ID)
	s.atTerminal(w, r, v, link, func(socket *websocket.Conn) error {
		return joinTerminal(r.Context(), socket, link, r.URL.Query())
	})
}

// atTerminal lets somebody in by a WebSocket, for as long as join lasts.
func (s *Server) atTerminal(w http.ResponseWriter, r *http.Request, v gateway.Visit, link *agentlink.Link, join func(*websocket.Conn) error) {
	leave, err := s.o.Gateway.Arrive(r.Context(), v, r.RemoteAddr, func() { link.Close() })
	if err != nil {
		s.failed(w, r, err)
		return
	}
	defer leave()
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return // the upgrader has answered
	}
	defer socket.Close()
	if err := join(socket); err != nil {
		s.o.Log.Debug("terminal", "workspace", v.Name, "error", err)
	}
}

type size struct{ Columns, Rows int }

// maxResize bounds the text that says a new size, in bytes.
const maxResize = 1 << 10

func joinTerminal(ctx context.Context, socket *websocket.Conn, link *agentlink.Link, q url.Values) error {
	t, err := link.Terminal(ctx, q.Get("terminal"), number(q.Get("columns"), 80), number(q.Get("rows"), 24))
	if err != nil {
		return closeWith(socket, err)
	}
	defer t.Close()
	go func() {
		defer link.Close() // the page is gone
		for {
			kind, r, err := socket.NextReader()
			if err != nil {
				return
			}
			if kind == websocket.BinaryMessage {
				if _, err := io.Copy(struct{ io.Writer }{t}, r); err != nil { // in pieces: a message may have any length
					return
				}
				continue
			}
			var to size
			if json.NewDecoder(io.LimitReader(r, maxResize)).Decode(&to) == nil && to.Columns > 0 && to.Rows > 0 {
				_ = t.Resize(to.Columns, to.Rows)
			}
		}
	}()
	out := wsconn.New(socket)
	if err := splice.Copy(out, t); err != nil {
		return errors.Join(err, closeWith(socket, nil))
	}
	return ended(socket, out, t.Wait())
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
	name, user, err := gateway.SplitUser(chi.URLParam(r, "name"))
	if err != nil {
		s.failed(w, r, fault.New("bad-request", "leave it out, or name one", "%v", err))
		return
	}
	v, err := s.comes(r.Context(), name, records.MayType)
	if err == nil && v.Guest() && user != "" {
		err = fault.New("not-allowed-here", "leave +"+user+" out", "A guest comes in as the workspace's own person")
	}
	if err != nil {
		s.failed(w, r, err)
		return
	}
	v.User = user
	if id := r.URL.Query().Get("stream"); id != "" {
		s.longTunnel(w, r, v, id)
		return
	}
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		return // the upgrader has answered
	}
	s.o.Gateway.ServeTunnel(r.Context(), wsconn.New(socket), v)
}
