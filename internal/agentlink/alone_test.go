package agentlink

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
	"domicile/internal/handed"
)

// Where a stream of its own cannot be had, or its agent is of an earlier version, a channel is asked for.
func TestAChannelWhereNoStreamIs(t *testing.T) {
	key := linktest.Signer(t)
	agent := linktest.Agent{Channels: func(c connection.NewChannel) {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go connection.Discard(requests)
		_, _ = io.WriteString(channel, "by a channel")
		channel.Close()
	}}
	earlier := func() net.Conn {
		near, far := net.Pipe()
		go func() { _, _ = io.WriteString(far, "SSH-2.0-agent\r\n") }()
		return near
	}
	var room handed.Room
	for name, again := range map[string]func(context.Context) (net.Conn, error){
		"nobody opens another": nil,
		"it cannot be opened":  func(context.Context) (net.Conn, error) { return nil, errors.New("the socket is gone") },
		"there is no place":    nil,
		"an earlier agent":     func(context.Context) (net.Conn, error) { return connection.Private(earlier()), nil },
		"an agent that ends it": func(context.Context) (net.Conn, error) {
			return linktest.Agent{}.Private(t, linktest.Signer(t).PublicKey()), nil
		},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := Open(t.Context(), agent.Private(t, key.PublicKey()), key)
			require.NoError(t, err)
			defer l.Quiet().Close()
			l.Again = again
			l.Place = func() *handed.Place { return room.Enter(1) }
			if name == "there is no place" {
				l.Place = func() *handed.Place { return nil }
				l.Again = func(context.Context) (net.Conn, error) {
					assert.Fail(t, "a stream is opened for nothing")
					return nil, io.EOF
				}
			}
			conn, err := l.DialAlone(t.Context(), "tcp", "localhost:80")
			require.NoError(t, err)
			b, err := io.ReadAll(conn)
			require.NoError(t, err)
			assert.Equal(t, "by a channel", string(b))
		})
	}
}

// Who gives up waiting for an agent that says nothing leaves no stream behind.
func TestWaitingForAStreamIsGivenUp(t *testing.T) {
	key := linktest.Signer(t)
	l, err := Open(t.Context(), linktest.Agent{}.Private(t, key.PublicKey()), key)
	require.NoError(t, err)
	defer l.Quiet().Close()
	ctx, cancel := context.WithCancel(t.Context())
	near, far, err := socketPair()
	require.NoError(t, err)
	l.Again = func(context.Context) (net.Conn, error) {
		cancel()
		return connection.Private(near), nil
	}
	var room handed.Room
	l.Place = func() *handed.Place { return room.Enter(1) }
	_, err = l.DialAlone(ctx, "tcp", "localhost:80")
	assert.ErrorIs(t, err, context.Canceled)
	_, err = far.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF)
}

// What is not the connection that was asked for is not used: a channel is asked for, and the agent is told
// once in a while that what it has handed over is used.
func TestWhatTheAgentHandsOver(t *testing.T) {
	key := linktest.Signer(t)
	program, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer program.Close()
	pipe, other, err := os.Pipe()
	require.NoError(t, err)
	defer pipe.Close()
	defer other.Close()
	var grants atomic.Value // syscall.Conn
	told := make(chan string, 10)
	agent := linktest.Agent{
		Alone:    func(a *connection.Alone) { _ = handed.WithDescriptor(grants.Load().(granted).Conn, a.Grant) },
		Channels: func(c connection.NewChannel) { _ = c.Reject(ssh.ConnectionFailed, "by a channel, then") },
		Requests: func(r *connection.Request) { told <- r.Type },
	}
	l, err := Open(t.Context(), agent.Private(t, key.PublicKey()), key)
	require.NoError(t, err)
	defer l.Quiet().Close()
	var room handed.Room
	l.Place = func() *handed.Place { return room.Enter(1) }
	l.Again = func(context.Context) (net.Conn, error) { return agent.Private(t, key.PublicKey()), nil }

	grants.Store(granted{pipe})
	_, err = l.DialAlone(t.Context(), "tcp", "localhost:80")
	var refused *ssh.OpenChannelError
	require.ErrorAs(t, err, &refused)
	assert.Equal(t, "by a channel, then", refused.Message)

	dialled, err := net.Dial("tcp", program.Addr().String())
	require.NoError(t, err)
	defer dialled.Close()
	grants.Store(granted{dialled.(syscall.Conn)})
	conn, err := l.DialAlone(t.Context(), "tcp", "localhost:80")
	require.NoError(t, err)
	for range 100 {
		_, err = io.WriteString(conn, "tide")
		require.NoError(t, err)
	}
	assert.Equal(t, wire.Used, <-told)
	require.NoError(t, conn.Close())
	assert.Less(t, len(told), 50, "and not each time")
}

type granted struct{ syscall.Conn }
