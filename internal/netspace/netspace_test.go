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

// What comes to an address in the other network is joined to one of this machine, both ways.
func TestJoin(t *testing.T) {
	here, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer here.Close()
	go func() {
		for {
			conn, err := here.Accept()
			if err != nil {
				return
			}
			said, _ := io.ReadAll(conn) // up to the end of that way alone
			_, _ = conn.Write(append([]byte("heard "), said...))
			conn.Close()
		}
	}()
	s, err := Make("127.0.0.1:7", "127.0.0.1:9")
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	go Join(s.Listeners[0], here.Addr().String())
	go Join(s.Listeners[1], "127.0.0.1:1") // nobody
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread()
		if !assert.NoError(t, unix.Setns(int(s.File.Fd()), unix.CLONE_NEWNET)) {
			return
		}
		conn, err := net.Dial("tcp", "127.0.0.1:7")
		if assert.NoError(t, err) {
			_, err = io.WriteString(conn, "ahoy")
			assert.NoError(t, err)
			assert.NoError(t, conn.(*net.TCPConn).CloseWrite())
			said, err := io.ReadAll(conn)
			assert.NoError(t, err)
			assert.Equal(t, "heard ahoy", string(said))
			conn.Close()
		}
		conn, err = net.Dial("tcp", "127.0.0.1:9")
		if assert.NoError(t, err) {
			_, err := conn.Read(make([]byte, 1))
			assert.Error(t, err, "it ends where nobody is")
			conn.Close()
		}
	}()
	<-done
}
