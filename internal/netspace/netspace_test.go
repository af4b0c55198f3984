package netspace

import (
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
		space, err := s.Again()
		require.NoError(t, err)
		defer space.Close()
		require.NoError(t, Within(space, func() error { do(); return nil }))
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
	require.NoError(t, Within(s.File, func() error {
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
		return nil
	}))
}

// A program that is to end with who started it outlives what is done in another network by the same
// threads, and no thread stays there.
func TestThreadsComeBack(t *testing.T) {
	own, err := os.Readlink("/proc/self/ns/net")
	require.NoError(t, err)
	s, err := Make()
	require.NoError(t, err)
	defer func() { assert.NoError(t, s.Close()) }()
	programs := make([]*exec.Cmd, 32)
	var all sync.WaitGroup
	for n := range programs {
		all.Go(func() {
			programs[n] = exec.Command("sleep", "60")
			programs[n].SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
			assert.NoError(t, programs[n].Start())
			assert.NoError(t, Within(s.File, func() error { return exec.Command("true").Run() }))
			made, err := Make()
			if assert.NoError(t, err) {
				assert.NoError(t, made.Close())
			}
		})
	}
	all.Wait()
	threads, err := filepath.Glob("/proc/self/task/*/ns/net")
	require.NoError(t, err)
	for _, thread := range threads {
		where, err := os.Readlink(thread)
		assert.True(t, err != nil || where == own, "%s is at %s", thread, where)
	}
	for _, c := range programs {
		require.NoError(t, c.Process.Kill())
		assert.EqualError(t, c.Wait(), "signal: killed", "it ran until now")
	}
}
