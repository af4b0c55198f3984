package agentlink

import (
	"context"
	"errors"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
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
	for name, again := range map[string]func(context.Context) (net.Conn, error){
		"nobody opens another": nil,
		"it cannot be opened":  func(context.Context) (net.Conn, error) { return nil, errors.New("the socket is gone") },
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
	_, err = l.DialAlone(ctx, "tcp", "localhost:80")
	assert.ErrorIs(t, err, context.Canceled)
	_, err = far.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF)
}
