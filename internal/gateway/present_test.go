package gateway

import (
	"bufio"
	"context"
	"log/slog"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// greeted tells whether the gateway answers a new connection from an address.
func greeted(t *testing.T, from, to string) (net.Conn, bool) {
	t.Helper()
	dialer := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 5 * time.Second}
	conn, err := dialer.DialContext(t.Context(), "tcp", to)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
	_, _ = conn.Write([]byte("SSH-2.0-test\r\n"))
	line, _ := bufio.NewReader(conn).ReadString('\n')
	return conn, strings.HasPrefix(line, "SSH-2.0-OpenSSH_compatible Domicile")
}

// Who says nothing and stays keeps only the door of its own address shut, and only while it
// stays.
func TestStrangersOfOneAddressAreFew(t *testing.T) {
	key, err := hostKeys()
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan error, 1)
	s := &Server{HostKeys: key.Now, Log: slog.New(slog.DiscardHandler)}
	go func() { over <- s.Serve(ctx, listener) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-over) })
	at := listener.Addr().String()

	var first net.Conn
	for i := range maxNewcomersByPrefix {
		conn, ok := greeted(t, "127.0.0.1", at)
		require.True(t, ok, "connection %d", i)
		if first == nil {
			first = conn
		}
	}
	_, ok := greeted(t, "127.0.0.1", at)
	assert.False(t, ok, "one more from this address")
	_, ok = greeted(t, "127.0.0.2", at)
	assert.True(t, ok, "another address is not hindered")
	require.NoError(t, first.Close())
	assert.Eventually(t, func() bool {
		_, ok := greeted(t, "127.0.0.1", at)
		return ok
	}, 5*time.Second, 10*time.Millisecond, "a place is free again")

	s.unproven.Trust(&net.TCPAddr{IP: net.ParseIP("127.0.0.3")})
	for i := range maxNewcomersByPrefix + 8 {
		_, ok := greeted(t, "127.0.0.3", at)
		require.True(t, ok, "connection %d from where somebody has come in", i)
	}
}
