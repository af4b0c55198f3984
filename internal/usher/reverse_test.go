package usher

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
)

// A port of this machine appears inside, again after the connection broke and for the next usher.
func TestAPortThatIsKeptInside(t *testing.T) {
	c := newCabin(t, "fares")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(conn, "the quay's own")
			conn.Close()
		}
	}()
	local := l.Addr().(*net.TCPAddr).Port
	visit := func() string {
		c.h.mu.Lock()
		at := c.h.met["fares"]
		c.h.mu.Unlock()
		channel, requests, err := at.OpenChannel("forwarded-tcpip", ssh.Marshal(struct {
			Host       string
			Port       uint32
			OriginHost string
			OriginPort uint32
		}{"localhost", 8081, "127.0.0.1", 1}))
		if err != nil {
			return err.Error()
		}
		go connection.Discard(requests)
		b, _ := io.ReadAll(channel)
		return string(b)
	}
	appears := func() {
		t.Helper()
		require.Eventually(t, func() bool { return visit() == "the quay's own" }, 5*time.Second, 5*time.Millisecond)
	}
	assert.ErrorContains(t, c.u.Keep(Reverse{Workspace: "barge", Inside: 1, Local: 1}), "no workspace")
	assert.ErrorContains(t, c.u.Keep(Reverse{Workspace: "fares", Inside: 0, Local: 1}), "no port")
	require.NoError(t, c.u.Keep(Reverse{Workspace: "fares", Inside: 8081, Local: local}))
	appears()
	require.Equal(t, []Reverse{{Workspace: "fares", Inside: 8081, Local: local}}, c.u.Status().Places[0].Reverse)
	c.h.mu.Lock()
	at := c.h.met["fares"]
	c.h.mu.Unlock()
	require.NoError(t, at.Close())
	<-c.h.lent
	appears()
	c.stop()
	c.begin()
	<-c.h.lent
	appears()
	require.NoError(t, c.u.Keep(Reverse{Workspace: "fares", Inside: 8081, Local: local, Forget: true}))
	require.Eventually(t, func() bool { return visit() != "the quay's own" }, 5*time.Second, 5*time.Millisecond)
	assert.ErrorContains(t, c.u.Keep(Reverse{Workspace: "fares", Inside: 8081, Local: local, Forget: true}), "none that is kept")
	assert.Empty(t, c.u.Status().Places[0].Reverse)
}
