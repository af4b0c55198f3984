package usher

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A port that wants more rights here is at another number, and how to have its own is told to who wants
// that.
func TestAPortThatWantsMoreRights(t *testing.T) {
	h := newHarbour(t)
	k := &kept{said: make(chan string, 1000)}
	u, err := New(Options{Service: h, Suffix: "domicile", Memory: filepath.Join(t.TempDir(), "ports.json"), Say: func(s string) { k.said <- s }})
	require.NoError(t, err)
	u.listenAt = func(ctx context.Context, port int) ([]net.Listener, error) {
		if port < 1024 {
			return nil, &net.OpError{Op: "listen", Err: os.NewSyscallError("bind", syscall.EACCES)}
		}
		return []net.Listener{}, nil
	}
	h.runs("fares", listens(80, func(p *client.Port) { p.ElevateIfNeeded = new(true) }), listens(81), listens(443, func(p *client.Port) { p.RequireLocalPort = new(true) }))
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan error, 1)
	go func() { over <- u.Serve(ctx) }()
	said := []string{<-k.said, <-k.said, <-k.said}
	cancel()
	require.NoError(t, <-over)
	slices.Sort(said)
	assert.Regexp(t, `^fares: port 443 is not offered here: it must have the same number, and port 443 wants more rights at this machine: sudo setcap`, said[0])
	assert.Regexp(t, `^fares: port 80 is at localhost:8080; port 80 wants more rights at this machine: sudo setcap cap_net_bind_service=\+ep `, said[1])
	assert.Equal(t, "fares: port 81 is at localhost:8081", said[2])
}

// "localhost" means both versions of IP: a port that another program has in one of them is not had in the other.
func TestAPortIsHadInBothFamiliesOrNot(t *testing.T) {
	other, err := net.Listen("tcp", "[::1]:0")
	require.NoError(t, err)
	port := other.Addr().(*net.TCPAddr).Port
	_, err = ListenAt(t.Context(), port)
	assert.ErrorIs(t, err, syscall.EADDRINUSE)
	require.NoError(t, other.Close())
	list, err := ListenAt(t.Context(), port)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	for _, l := range list {
		assert.Equal(t, port, l.Addr().(*net.TCPAddr).Port)
		l.Close()
	}
	list, err = ListenAt(t.Context(), 0)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, list[0].Addr().(*net.TCPAddr).Port, list[1].Addr().(*net.TCPAddr).Port)
	for _, l := range list {
		l.Close()
	}
}

// Who signs out has nothing of a workspace at this machine any more; and a port that another program had is had when
// that is gone.
func TestAPortIsTriedAgainAndGivenUp(t *testing.T) {
	h := newHarbour(t)
	u, err := New(Options{Service: h, Suffix: "domicile", Memory: filepath.Join(t.TempDir(), "ports.json"), Say: func(string) {}})
	require.NoError(t, err)
	other, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := other.Addr().(*net.TCPAddr).Port
	h.runs("fares", listens(port, func(p *client.Port) { p.RequireLocalPort = new(true) }))
	ctx, cancel := context.WithCancel(t.Context())
	over := make(chan error, 1)
	go func() { over <- u.Serve(ctx) }()
	t.Cleanup(func() { cancel(); require.NoError(t, <-over) })
	here := func() string { return u.Status().Local("fares", strconv.Itoa(port)) }
	require.Eventually(t, func() bool { u.mu.Lock(); defer u.mu.Unlock(); return len(u.refused) == 1 }, 10*time.Second, 5*time.Millisecond)
	assert.Empty(t, here())
	require.NoError(t, other.Close())
	require.Eventually(t, func() bool { return here() != "" }, 20*time.Second, 5*time.Millisecond, "it is tried again")

	h.signedOut.Store(true)
	h.mu.Lock()
	h.broken()
	h.mu.Unlock()
	require.Eventually(t, func() bool { return here() == "" }, 10*time.Second, 5*time.Millisecond, "and given up")
	_, err = net.Dial("tcp", other.Addr().String())
	assert.Error(t, err)
}
