package agentlink

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/fault"
)

// silent is a connection to an agent that shakes hands and then says nothing.
func silent(t *testing.T) *Link {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		config := &ssh.ServerConfig{NoClientAuth: true, PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
		config.AddHostKey(signer)
		_, _, _, err = ssh.NewServerConn(conn, config)
		assert.NoError(t, err) // what it is asked is read by nobody
	}()
	stream, err := net.Dial("tcp", listener.Addr().String())
	require.NoError(t, err)
	link, err := Open(t.Context(), stream, signer)
	require.NoError(t, err)
	t.Cleanup(func() { link.Close() })
	return link
}

// Nobody waits for an agent that does not answer longer than the limit, or than they want.
func TestASilentAgent(t *testing.T) {
	link := silent(t)
	err := link.call(t.Context(), 50*time.Millisecond, "hello", struct{}{}, &struct{}{})
	assert.Equal(t, "agent-unreachable", fault.Code(err))
	assert.True(t, fault.IsTransient(err))
	assert.ErrorContains(t, err, "did not answer hello within 50ms")

	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	_, err = silent(t).Activity(ctx)
	assert.ErrorIs(t, err, context.Canceled)
	ctx, cancel = context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	assert.Error(t, silent(t).Put(ctx, "/x", nil))
}
