//go:build linux

package splice

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

func unixSockets(t testing.TB) (*net.UnixConn, *net.UnixConn) {
	t.Helper()
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	defer l.Close()
	near, err := net.Dial("unix", l.Addr().String())
	require.NoError(t, err)
	far, err := l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { near.Close(); far.Close() })
	return near.(*net.UnixConn), far.(*net.UnixConn)
}

// What passes between sockets is whole, both ways at once, however much it is and in whatever pieces;
// and the end of one direction is passed on while the other goes on.
func TestSocketsPassAll(t *testing.T) {
	for seed, size := range []int{0, 1, idle, idle + 1, busy, busy + 1, 3*busy + 7, 5*most + 11} {
		r := rand.New(rand.NewPCG(uint64(seed), 2))
		there, back := make([]byte, size), make([]byte, size/2)
		for _, b := range [][]byte{there, back} {
			for i := range b {
				b[i] = byte(r.Uint32())
			}
		}
		visitor, near := unixSockets(t)
		program, far := tcp(t)
		var noted atomic.Int64
		var all sync.WaitGroup
		all.Go(func() { Sockets(near, far.(*net.TCPConn), func() { noted.Add(1) }) })
		all.Go(func() {
			_, err := io.Copy(struct{ io.Writer }{visitor}, &pieces{there, r})
			assert.NoError(t, err)
			assert.NoError(t, visitor.CloseWrite())
		})
		all.Go(func() {
			got, err := io.ReadAll(program) // until the visitor has said all
			assert.NoError(t, err)
			assert.True(t, bytes.Equal(there, got), "%d of %d bytes there", len(got), size)
			_, err = program.Write(back)
			assert.NoError(t, err)
			program.Close()
		})
		got, err := io.ReadAll(visitor)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(back, got), "%d of %d bytes back", len(got), len(back))
		all.Wait()
		assert.Equal(t, size > 0, noted.Load() > 0, "an end is nothing that has come")
	}
}

// A socket whose other side is gone ends the other one.
func TestSocketsWhereOneIsGone(t *testing.T) {
	visitor, near := unixSockets(t)
	program, far := tcp(t)
	over := make(chan struct{})
	go func() {
		Sockets(near, far.(*net.TCPConn), func() {})
		close(over)
	}()
	go func() { _, _ = io.Copy(program, endless{}) }()
	_, err := io.CopyN(io.Discard, visitor, 2*most)
	require.NoError(t, err)
	visitor.Close()
	<-over
}

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

// Where there are no descriptors left for the kernel's way, what passes is copied, and whole.
func TestSocketsPassAllWithoutDescriptors(t *testing.T) {
	visitor, near := unixSockets(t)
	program, far := tcp(t)
	cargo := bytes.Repeat([]byte("the tide turns\n"), most/8)
	probe, err := os.Open(os.DevNull)
	require.NoError(t, err)
	var before unix.Rlimit
	require.NoError(t, unix.Getrlimit(unix.RLIMIT_NOFILE, &before))
	now := unix.Rlimit{Cur: uint64(probe.Fd()), Max: before.Max}
	require.NoError(t, probe.Close())
	require.NoError(t, unix.Setrlimit(unix.RLIMIT_NOFILE, &now))
	defer func() { require.NoError(t, unix.Setrlimit(unix.RLIMIT_NOFILE, &before)) }()
	require.ErrorIs(t, byKernel(near, far.(*net.TCPConn), func() {}), errCopied)
	go Sockets(near, far.(*net.TCPConn), func() {})
	go func() {
		_, err := program.Write(cargo)
		assert.NoError(t, err)
		assert.NoError(t, program.(*net.TCPConn).CloseWrite())
	}()
	got, err := io.ReadAll(visitor)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(cargo, got), "%d of %d bytes", len(got), len(cargo))
}
