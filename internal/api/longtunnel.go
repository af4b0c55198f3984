package api

import (
	"errors"
	"io"
	"net"
	"net/http"
	"regexp"
	"sync"

	"domicile/internal/fault"
	"domicile/internal/gateway"
	"domicile/internal/longstream"
	"domicile/internal/wsconn"
)

var streamIDs = regexp.MustCompile(`^[0-9a-f]{32}$`)

// longTunnel serves SSH on a stream whose connection may break: the WebSocket is one of those that
// carry it.
func (s *Server) longTunnel(w http.ResponseWriter, r *http.Request, v gateway.Visit, id string) {
	isNew := r.URL.Query().Get("again") != "true"
	if !streamIDs.MatchString(id) {
		s.failed(w, r, fault.New("bad-request", "give 32 hexadecimal digits", "%.40q is no stream", id))
		return
	}
	stream, err := s.streams.Take(id, longstream.Owner{Account: account(r.Context()).ID, Workspace: v.ID}, isNew)
	if err != nil {
		code, remedy := "stream-gone", "connect once more"
		if errors.Is(err, longstream.ErrFull) {
			code, remedy = "too-busy", "try again in a while"
		}
		s.failed(w, r, fault.Wrap(err, code, remedy, "The connection to %s cannot go on", v.Name))
		return
	}
	defer s.streams.Put(id)
	socket, err := upgrader.Upgrade(w, r, nil)
	if err != nil {
		if isNew {
			stream.Fail(err) // nobody else knows of it
		}
		return // the upgrader has answered
	}
	conn := wsconn.New(socket)
	if isNew {
		near, far := net.Pipe() // which has deadlines
		go s.o.Gateway.ServeTunnel(s.serving, cameFrom{near, conn.LocalAddr(), conn.RemoteAddr()}, v)
		go joinStream(far, stream)
	}
	_ = stream.Carry(conn) // another connection takes its place, or none does
}

// joinStream copies both ways until either ends.
func joinStream(conn net.Conn, stream *longstream.Stream) {
	var both sync.WaitGroup
	both.Go(func() {
		_, _ = io.Copy(struct{ io.Writer }{conn}, stream)
		conn.Close()
	})
	both.Go(func() {
		_, _ = io.Copy(struct{ io.Writer }{stream}, conn)
		stream.Close()
	})
	both.Wait()
}

// cameFrom is a stream with the addresses of the connection that carried it first.
type cameFrom struct {
	net.Conn
	local, remote net.Addr
}

// LocalAddr and RemoteAddr are those of that connection.
func (c cameFrom) LocalAddr() net.Addr  { return c.local }
func (c cameFrom) RemoteAddr() net.Addr { return c.remote }
