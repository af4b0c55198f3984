package firstprocess

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/channel"
)

// greets serves a socket at which who comes is told a word.
func greets(t *testing.T, socket, word string) {
	t.Helper()
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(conn, word)
			conn.Close()
		}
	}()
}

// A stream to an agent leads to the socket in the folder of its container, and what the container
// puts there in its place leads nowhere.
func TestWhatAContainerPutsInTheAgentsPlaceIsNotFollowed(t *testing.T) {
	agents := t.TempDir()
	prize := filepath.Join(t.TempDir(), "agent.sock")
	greets(t, prize, "the machine's own")
	in := func(id string) string {
		folder := filepath.Join(agents, id)
		require.NoError(t, os.MkdirAll(folder, 0o755))
		return filepath.Join(folder, "agent.sock")
	}
	greets(t, in("w1"), "SSH-")
	require.NoError(t, os.Symlink(prize, in("w2")))
	require.NoError(t, os.Symlink("../w1/agent.sock", in("w3")))
	require.NoError(t, os.WriteFile(in("w4"), []byte("SSH-"), 0o600))
	require.NoError(t, os.Mkdir(in("w5"), 0o755))
	require.NoError(t, os.Symlink(filepath.Dir(prize), filepath.Join(agents, "w6")))
	in("w7") // nothing

	s := &server{agents: agents}
	said := func(id string) string {
		far, near := net.Pipe()
		go func() {
			s.handle(t.Context(), channel.ToAgent+" "+id, far)
			far.Close()
		}()
		b, err := io.ReadAll(near)
		require.NoError(t, err)
		return string(b)
	}
	assert.Equal(t, "SSH-", said("w1"))
	for _, id := range []string{"w2", "w3", "w4", "w5", "w6", "w7", "w8", "", ".", "..", "../w1", "w1/../w1", "w1/", "W1", "w1\x00", filepath.Dir(prize)} {
		assert.Empty(t, said(id), "%q", id)
	}
}
