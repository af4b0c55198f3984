package agentlink

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
)

// DialContext connects to host:port as seen from inside. The network is always TCP. An error of type
// *ssh.OpenChannelError is what the agent says of it.
func (l *Link) DialContext(ctx context.Context, _, address string) (net.Conn, error) {
	to, err := target(address)
	if err != nil {
		return nil, err
	}
	type opened struct {
		channel connection.Channel
		err     error
	}
	done := make(chan opened, 1)
	go func() {
		channel, requests, err := l.Conn.OpenChannel(directTCP, to)
		if err == nil {
			go connection.Discard(requests)
		}
		done <- opened{channel, err}
	}()
	select {
	case o := <-done:
		if o.err != nil {
			return nil, o.err
		}
		return channelConn{o.channel, address}, nil
	case <-ctx.Done():
		go func() {
			if o := <-done; o.err == nil {
				o.channel.Close()
			}
		}()
		return nil, ctx.Err()
	}
}

// DialAlone connects as DialContext does: where the agent is on this machine, it hands over the connection
// that it dials.
func (l *Link) DialAlone(ctx context.Context, network, address string) (net.Conn, error) {
	to, err := target(address)
	if err != nil {
		return nil, err
	}
	conn, err := l.alone(ctx, to)
	var refused *ssh.OpenChannelError
	switch {
	case err == nil:
		return conn, nil
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &refused):
		return nil, refused
	}
	return l.DialContext(ctx, network, address) // which tells whether the agent is gone
}

func (l *Link) alone(ctx context.Context, to []byte) (net.Conn, error) {
	g, err := l.obtain(ctx, directTCP, to, 1)
	if err != nil {
		return nil, err
	}
	defer g.stream.Close()
	conn, err := g.place.Connection(g.fds[0])
	if err != nil {
		return nil, err
	}
	return handedConn{conn, l}, nil
}

// directTCP is the kind of channel that dials (RFC 4254, section 7.2).
const directTCP = "direct-tcpip"

// target is what a request to dial says.
func target(address string) ([]byte, error) {
	host, text, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil {
		return nil, fmt.Errorf("the port of %s: %w", address, err)
	}
	return ssh.Marshal(struct {
		Host       string
		Port       uint32
		OriginHost string
		OriginPort uint32
	}{host, uint32(port), "127.0.0.1", 0}), nil
}

// channelConn is a channel as a net.Conn, without deadlines.
type channelConn struct {
	connection.Channel
	address string
}

// LocalAddr and RemoteAddr name what was dialled.
func (c channelConn) LocalAddr() net.Addr  { return inside(c.address) }
func (c channelConn) RemoteAddr() net.Addr { return inside(c.address) }

func (c channelConn) SetDeadline(time.Time) error      { return os.ErrNoDeadline }
func (c channelConn) SetReadDeadline(time.Time) error  { return os.ErrNoDeadline }
func (c channelConn) SetWriteDeadline(time.Time) error { return os.ErrNoDeadline }

// inside is an address as seen from inside a workspace.
type inside string

func (inside) Network() string  { return "tcp" }
func (i inside) String() string { return string(i) }
