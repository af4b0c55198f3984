// Package wsconn makes a byte stream of a WebSocket's binary messages.
package wsconn

import (
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"github.com/gorilla/websocket"
)

// Conn is a WebSocket as a net.Conn. One may read and several may write at a time.
type Conn struct {
	socket *websocket.Conn
	rest   io.Reader // what is left of the message being read
	mu     sync.Mutex
}

// New makes a stream; the socket belongs to it from then on.
func New(socket *websocket.Conn) *Conn { return &Conn{socket: socket} }

// Read reads from binary messages; others are passed over. The other side's close is io.EOF.
func (c *Conn) Read(p []byte) (int, error) {
	for {
		if c.rest == nil {
			kind, r, err := c.socket.NextReader()
			var closed *websocket.CloseError
			if errors.As(err, &closed) {
				return 0, io.EOF
			}
			if err != nil {
				return 0, err
			}
			if kind != websocket.BinaryMessage {
				continue
			}
			c.rest = r
		}
		n, err := c.rest.Read(p)
		if errors.Is(err, io.EOF) {
			c.rest, err = nil, nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}

// Write sends a binary message.
func (c *Conn) Write(p []byte) (int, error) {
	if err := c.write(websocket.BinaryMessage, p); err != nil {
		return 0, err
	}
	return len(p), nil
}

// WriteText sends a text message.
func (c *Conn) WriteText(p []byte) error { return c.write(websocket.TextMessage, p) }

func (c *Conn) write(kind int, p []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.socket.WriteMessage(kind, p)
}

// Close closes the socket.
func (c *Conn) Close() error {
	// A word of farewell where it still gets through.
	_ = c.socket.WriteControl(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, ""), time.Now().Add(time.Second))
	return c.socket.Close()
}

// LocalAddr and RemoteAddr are those of the connection beneath.
func (c *Conn) LocalAddr() net.Addr  { return c.socket.LocalAddr() }
func (c *Conn) RemoteAddr() net.Addr { return c.socket.RemoteAddr() }

// SetDeadline sets both deadlines. A read that ran into its deadline cannot be repeated.
func (c *Conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// SetReadDeadline sets when reading fails.
func (c *Conn) SetReadDeadline(t time.Time) error { return c.socket.SetReadDeadline(t) }

// SetWriteDeadline sets when writing fails.
func (c *Conn) SetWriteDeadline(t time.Time) error { return c.socket.SetWriteDeadline(t) }
