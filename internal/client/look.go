package client

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/url"

	"github.com/gorilla/websocket"

	"domicile/internal/fault"
)

// Look copies what a terminal in a workspace prints, from what is kept of it on, until the program
// in it ends or ctx does; empty: the terminal that was opened last. sized is called with the terminal's
// size in characters. The status is that of the program.
func (s *Service) Look(ctx context.Context, workspace, terminal string, out io.Writer, sized func(columns, rows int)) (status int, err error) {
	socket, err := s.socket(ctx, workspace, "terminal?look=true&terminal="+url.QueryEscape(terminal))
	if err != nil {
		return 0, err
	}
	defer socket.Close()
	defer context.AfterFunc(ctx, func() { socket.Close() })()
	for {
		kind, b, err := socket.ReadMessage()
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		var closed *websocket.CloseError
		if errors.As(err, &closed) && closed.Code == websocket.CloseNormalClosure {
			return 0, fault.New("connection-lost", "domicile guests tells whether you are still invited", "the terminal is not shown any more")
		}
		if err != nil {
			return 0, fault.Transient(err, "connection-lost", "", "the connection to %s is lost", workspace)
		}
		if kind == websocket.BinaryMessage {
			if _, err := out.Write(b); err != nil {
				return 0, err
			}
			continue
		}
		var told struct {
			Columns, Rows int
			Exit          *int
		}
		if json.Unmarshal(b, &told) != nil {
			continue
		}
		if told.Exit != nil {
			return *told.Exit, nil
		}
		sized(told.Columns, told.Rows)
	}
}
