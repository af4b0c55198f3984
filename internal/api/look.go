package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"

	"github.com/gorilla/websocket"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/gateway"
	"domicile/internal/splice"
	"domicile/internal/wsconn"
)

// look joins a WebSocket to what a terminal prints. What comes from the socket goes nowhere.
func (s *Server) look(w http.ResponseWriter, r *http.Request, v gateway.Visit, link *agentlink.Link) {
	name, err := newestTerminal(r.Context(), link, r.URL.Query().Get("terminal"))
	var looked *agentlink.Looked
	if err == nil {
		looked, err = link.Look(r.Context(), name)
	}
	if err != nil {
		s.failed(w, r, err)
		return
	}
	defer looked.Close()
	s.atTerminal(w, r, v, link, func(socket *websocket.Conn) error { return show(socket, link, looked) })
}

// newestTerminal is the terminal that is meant; where none is named, the one that was opened last.
func newestTerminal(ctx context.Context, link *agentlink.Link, name string) (string, error) {
	if name != "" {
		return name, nil
	}
	list, err := link.Terminals(ctx)
	if err == nil && len(list) == 0 {
		err = fault.New("no-terminal", "look again when somebody has opened one", "no terminal is open")
	}
	if err != nil {
		return "", err
	}
	return list[len(list)-1].Name, nil
}

// largest is how large a terminal is shown, in characters a side: an agent could tell any size, and
// who looks makes room for it.
const largest = 500

// drawable is a size as a page can draw it.
func drawable(size wire.WindowSize) map[string]uint32 {
	return map[string]uint32{"columns": min(max(size.Columns, 2), largest), "rows": min(max(size.Rows, 1), largest)}
}

func show(socket *websocket.Conn, link *agentlink.Link, looked *agentlink.Looked) error {
	out := wsconn.New(socket)
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		defer link.Close()
		for {
			if _, _, err := socket.NextReader(); err != nil {
				return
			}
		}
	}()
	go func() {
		for {
			select {
			case <-gone:
				return
			case size := <-looked.Sizes():
				b, err := json.Marshal(drawable(size))
				if err != nil || out.WriteText(b) != nil {
					return
				}
			}
		}
	}()
	if err := splice.Copy(out, looked); err != nil {
		return errors.Join(err, closeWith(socket, nil))
	}
	return ended(socket, out, looked.Wait())
}

// ended tells the page how the program in a terminal ended.
func ended(socket *websocket.Conn, out *wsconn.Conn, err error) error {
	var exit *agentlink.ExitError
	status := 0
	if errors.As(err, &exit) {
		status, err = exit.Shell(), nil
	}
	if err == nil {
		err = out.WriteText([]byte(`{"exit":` + strconv.Itoa(status) + `}`))
	}
	return errors.Join(err, closeWith(socket, nil))
}
