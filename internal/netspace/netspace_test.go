package netspace

import (
	"io"
	"net"
	"os/exec"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A program in a network of its own reaches what listens in it, and nothing of this machine.
func TestANetworkOfItsOwn(t *testing.T) {
	outside, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer outside.Close()
	s, err := Make("127.0.0.1:7")
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	require.Len(t, s.Listeners, 1)
	go func() {
		conn, err := s.Listeners[0].Accept()
		if err == nil {
			_, _ = io.WriteString(conn, "ahoy")
			conn.Close()
		}
	}()
	inside := func(do func()) {
		done := make(chan struct{})
		go func() {
			defer close(done)
			runtime.LockOSThread() // and never unlocked: the thread ends
			space, err := s.Again()
			if assert.NoError(t, err) && assert.NoError(t, unix.Setns(int(space.Fd()), unix.CLONE_NEWNET)) {
				do()
			}
			space.Close()
		}()
		<-done
	}
	inside(func() {
		conn, err := net.Dial("tcp", "127.0.0.1:7")
		if assert.NoError(t, err) {
			said, err := io.ReadAll(conn)
			assert.NoError(t, err)
			assert.Equal(t, "ahoy", string(said))
			conn.Close()
		}
		_, err = net.Dial("tcp", outside.Addr().String())
		assert.Error(t, err, "what listens beside it is not there")
		out, err := exec.Command("cat", "/proc/net/dev").CombinedOutput()
		assert.NoError(t, err)
		assert.NotContains(t, string(out), "eth0")
	})
}

func TestAnAddressThatIsNoneThere(t *testing.T) {
	_, err := Make("192.0.2.1:7")
	require.Error(t, err)
	assert.True(t, strings.Contains(err.Error(), "192.0.2.1:7"), err)
}
