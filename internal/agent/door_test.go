package agent_test

import (
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answers serves a door: whoever comes is told a word, and the service hears them out.
func answers(listener net.Listener, word string) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			asked, _ := io.ReadAll(conn) // until the visitor has said all
			_, _ = conn.Write(append([]byte(word+" "), asked...))
		}()
	}
}

func visit(t *testing.T, socket string) (string, error) {
	t.Helper()
	conn, err := net.DialUnix("unix", nil, &net.UnixAddr{Name: socket, Net: "unix"})
	if err != nil {
		return "", err
	}
	defer conn.Close()
	if _, err = conn.Write([]byte("ahoy")); err == nil { // who is sent away at once may not have read it
		err = conn.CloseWrite()
	}
	if err != nil {
		return "", err
	}
	said, err := io.ReadAll(conn)
	return string(said), err
}

// Whoever comes to a door is brought to a service that holds it, as long as there is one.
func TestADoorThatTwoServicesHold(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "made", "engine.sock")
	first, err := connect(t).Door(t.Context(), socket)
	require.NoError(t, err)
	go answers(first, "one")
	said, err := visit(t, socket)
	require.NoError(t, err)
	assert.Equal(t, "one ahoy", said)
	info, err := os.Stat(socket)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o666), info.Mode().Perm(), "for everybody inside")

	second, err := connect(t).Door(t.Context(), socket)
	require.NoError(t, err)
	go answers(second, "two")
	said, err = visit(t, socket)
	require.NoError(t, err)
	assert.Equal(t, "two ahoy", said)
	require.NoError(t, second.Close())
	require.Eventually(t, func() bool { said, err = visit(t, socket); return err == nil && said == "one ahoy" }, 5*time.Second, 10*time.Millisecond, "the other one goes on")
	require.NoError(t, first.Close())
	require.Eventually(t, func() bool { _, err = visit(t, socket); return err != nil }, 5*time.Second, 10*time.Millisecond, "it closes with the last")

	again, err := connect(t).Door(t.Context(), socket)
	require.NoError(t, err, "what is left of the socket is replaced")
	go answers(again, "three")
	said, err = visit(t, socket)
	require.NoError(t, err)
	assert.Equal(t, "three ahoy", said)
}

// A door is not opened where somebody else's link leads, and a link in its place is replaced.
func TestADoorFollowsNobody(t *testing.T) {
	folder, victims := t.TempDir(), t.TempDir()
	planted := filepath.Join(folder, "planted")
	require.NoError(t, os.Symlink(victims, planted))
	require.NoError(t, os.Lchown(planted, 1234, 1234))
	_, err := connect(t).Door(t.Context(), filepath.Join(planted, "engine.sock"))
	assert.ErrorContains(t, err, "not followed")
	left, err := os.ReadDir(victims)
	require.NoError(t, err)
	assert.Empty(t, left)

	victim := filepath.Join(victims, "victim")
	require.NoError(t, os.WriteFile(victim, []byte("kept"), 0o600))
	require.NoError(t, os.Symlink(victim, filepath.Join(folder, "engine.sock")))
	l, err := connect(t).Door(t.Context(), filepath.Join(folder, "engine.sock"))
	require.NoError(t, err)
	defer l.Close()
	info, err := os.Stat(victim)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
}
