// Package connection speaks the connection protocol of SSH (RFC 4254), channels and requests, without
// the transport of RFC 4253 below it: over plain frames, where a stream is private already and a second
// encryption would cost more than half of its speed. The same words serve a connection over SSH, so
// that who uses one need not know which it is.
package connection

import (
	"iter"
	"net"

	"golang.org/x/crypto/ssh"
)

// Conn is a connection with channels both ways.
type Conn interface {
	// OpenChannel asks the other side for a channel (RFC 4254, section 5.1). An error of type
	// *ssh.OpenChannelError is its refusal.
	OpenChannel(kind string, extra []byte) (Channel, Requests, error)
	// SendRequest asks something of the connection as a whole (section 4). Without wantReply the
	// answer is empty.
	SendRequest(name string, wantReply bool, payload []byte) (ok bool, answer []byte, err error)
	// Close ends the connection and all that goes through it.
	Close() error
	// Wait waits for the end and tells why.
	Wait() error
}

// Channel is one stream both ways, with standard error beside it. One may read and several may write
// at a time.
type Channel = ssh.Channel

// NewChannel is a channel that the other side asks for. It must be accepted or rejected.
type NewChannel interface {
	Accept() (Channel, Requests, error)
	Reject(reason ssh.RejectionReason, message string) error
	ChannelType() string
	ExtraData() []byte
}

// Requests are what the other side asks, until the channel or the connection ends. They must be taken:
// what comes behind them on the same connection waits for it.
type Requests = iter.Seq[*Request]

// Request is something that the other side asks (RFC 4254, sections 4 and 5.4).
type Request struct {
	Type      string
	WantReply bool
	Payload   []byte
	reply     func(ok bool, payload []byte) error
}

// Reply answers; where no answer is wanted it does nothing. Only the answer to a request of the whole
// connection has a payload.
func (r *Request) Reply(ok bool, payload []byte) error {
	if !r.WantReply {
		return nil
	}
	return r.reply(ok, payload)
}

// Discard refuses all requests, until there are no more.
func Discard(requests Requests) {
	for r := range requests {
		_ = r.Reply(false, nil)
	}
}

// Peer is a connection with what the other side opens and asks; both must be taken.
type Peer struct {
	Conn
	Channels iter.Seq[NewChannel]
	Requests Requests
}

// Quiet takes what the other side opens and asks, and refuses all of it.
func (p Peer) Quiet() {
	go Discard(p.Requests)
	go func() {
		for c := range p.Channels {
			_ = c.Reject(ssh.Prohibited, "not here")
		}
	}()
}

// OverSSH is a connection over SSH's own transport.
func OverSSH(c ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) Peer {
	return Peer{Conn: overSSH{c}, Channels: func(yield func(NewChannel) bool) {
		for n := range channels {
			if !yield(newOverSSH{n}) {
				return
			}
		}
	}, Requests: asked(requests)}
}

type overSSH struct{ ssh.Conn }

func (c overSSH) OpenChannel(kind string, extra []byte) (Channel, Requests, error) {
	channel, requests, err := c.Conn.OpenChannel(kind, extra)
	return channel, asked(requests), err
}

// LocalAddr and RemoteAddr are those of the stream below.
func (c overSSH) LocalAddr() net.Addr  { return c.Conn.LocalAddr() }
func (c overSSH) RemoteAddr() net.Addr { return c.Conn.RemoteAddr() }

type newOverSSH struct{ ssh.NewChannel }

func (n newOverSSH) Accept() (Channel, Requests, error) {
	channel, requests, err := n.NewChannel.Accept()
	return channel, asked(requests), err
}

func asked(requests <-chan *ssh.Request) Requests {
	return func(yield func(*Request) bool) {
		for r := range requests {
			if !yield(&Request{Type: r.Type, WantReply: r.WantReply, Payload: r.Payload, reply: r.Reply}) {
				return
			}
		}
	}
}

func each[T any](c <-chan T) iter.Seq[T] {
	return func(yield func(T) bool) {
		for x := range c {
			if !yield(x) {
				return
			}
		}
	}
}
