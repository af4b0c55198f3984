//go:build linux

package handed

import (
	"io"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// sockets are an agent's end and the service's.
func sockets(t testing.TB) (agent, service *net.UnixConn) {
	t.Helper()
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "s"))
	require.NoError(t, err)
	defer l.Close()
	near, err := net.Dial("unix", l.Addr().String())
	require.NoError(t, err)
	far, err := l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { near.Close(); far.Close() })
	return far.(*net.UnixConn), near.(*net.UnixConn)
}

// program is a connection to a program, and the program's end.
func program(t testing.TB) (conn *net.TCPConn, far net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	near, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	far, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { near.Close(); far.Close() })
	return near.(*net.TCPConn), far
}

// hand hands over what the agent has, and gives what the service gets.
func hand(t testing.TB, what syscall.Conn) int {
	t.Helper()
	agent, service := sockets(t)
	require.NoError(t, WithDescriptor(what, func(fds ...int) error { return Give(agent, []byte("ahoy"), fds...) }))
	b := make([]byte, 4)
	fds, err := Take(service, b, 1)
	require.NoError(t, err)
	require.Equal(t, "ahoy", string(b))
	require.Len(t, fds, 1)
	return fds[0]
}

// emptied waits until nothing is held any more.
func emptied(t testing.TB, r *Room) {
	t.Helper()
	require.Eventually(t, func() bool { return r.Held() == 0 }, 10*time.Second, time.Millisecond)
	assert.Empty(t, r.of)
}

func TestAConnectionIsHandedOver(t *testing.T) {
	var room Room
	conn, far := program(t)
	fd := hand(t, conn)
	require.NoError(t, conn.Close()) // the agent's own is not needed any more
	c, err := room.Enter(1).Connection(fd)
	require.NoError(t, err)
	_, err = io.WriteString(c, "is it high tide?")
	require.NoError(t, err)
	b := make([]byte, 16)
	_, err = io.ReadFull(far, b)
	require.NoError(t, err)
	assert.Equal(t, "is it high tide?", string(b))
	_, err = io.WriteString(far, "at noon")
	require.NoError(t, err)
	_, err = io.ReadFull(c, b[:7])
	require.NoError(t, err)
	assert.Equal(t, "at noon", string(b[:7]))
	require.NoError(t, c.Close())
	_, err = far.Read(b)
	assert.ErrorIs(t, err, io.EOF)
	emptied(t, &room)
}

// What is no TCP connection is not taken, whatever it is.
func TestWhatElseIsHandedOver(t *testing.T) {
	folder := t.TempDir()
	file, err := os.Create(filepath.Join(folder, "file"))
	require.NoError(t, err)
	defer file.Close()
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	defer write.Close()
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer udp.Close()
	unixSocket, _ := sockets(t)
	raw, err := os.Open("/dev/zero")
	require.NoError(t, err)
	defer raw.Close()
	for name, what := range map[string]syscall.Conn{"a file": file, "a pipe": read, "UDP": udp.(*net.UDPConn), "a Unix socket": unixSocket, "a device": raw} {
		t.Run(name, func(t *testing.T) {
			var room Room
			fd := hand(t, what)
			c, err := room.Enter(1).Connection(fd)
			assert.ErrorIs(t, err, errOther)
			assert.Nil(t, c)
			emptied(t, &room)
		})
	}
}

// Who handed a connection over still has it, and may have every call on it wait, and its end linger.
// Nobody waits for that but the call itself, and the end of the connection is the end of the call.
func TestWhoHandsOverHasCallsWait(t *testing.T) {
	var room Room
	conn, far := program(t)
	c, err := room.Enter(1).Connection(hand(t, conn))
	require.NoError(t, err)
	waits := func() {
		raw, err := conn.SyscallConn()
		require.NoError(t, err)
		require.NoError(t, raw.Control(func(fd uintptr) {
			assert.NoError(t, unix.SetNonblock(int(fd), false))
			assert.NoError(t, unix.SetsockoptLinger(int(fd), unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1, Linger: 3600}))
		}))
	}
	waits()
	read, wrote := make(chan error, 1), make(chan error, 1)
	go func() {
		_, err := c.Read(make([]byte, 1))
		read <- err
	}()
	go func() {
		for b := make([]byte, 1<<20); ; { // until nobody takes more
			if _, err := c.Write(b); err != nil {
				wrote <- err
				return
			}
		}
	}()
	_, err = io.ReadFull(far, make([]byte, 1<<20))
	require.NoError(t, err)
	require.NoError(t, c.Close())
	assert.ErrorIs(t, <-read, io.EOF)
	assert.Error(t, <-wrote)
	emptied(t, &room)
}

// There are so many places for one workspace, and so many for all.
func TestThereAreSoManyPlaces(t *testing.T) {
	var room Room
	var of []*Place
	for range mostOfOne {
		of = append(of, room.Enter(1))
	}
	assert.NotContains(t, of, (*Place)(nil))
	assert.Nil(t, room.Enter(1))
	other := room.Enter(2)
	require.NotNil(t, other)
	of[0].Leave()
	of[0].Leave()
	assert.NotNil(t, room.Enter(1))
	assert.Nil(t, room.Enter(1), "a place is given back once")
	for w := int64(3); room.all < mostOfAll; w++ {
		for room.all < mostOfAll && room.Enter(w) != nil {
		}
	}
	assert.Nil(t, room.Enter(2), "not one more, for nobody")
	other.Leave()
	assert.NotNil(t, room.Enter(2))
}

// Of several descriptors one is taken, and none of a message that has none; those that come later come
// to nobody.
func TestHowManyAreTaken(t *testing.T) {
	agent, service := sockets(t)
	read, write, err := os.Pipe()
	require.NoError(t, err)
	defer read.Close()
	two := unix.UnixRights(int(write.Fd()), int(write.Fd()))
	_, _, err = agent.WriteMsgUnix([]byte("ahoy"), two, nil)
	require.NoError(t, err)
	require.NoError(t, write.Close())
	fds, err := Take(service, make([]byte, 4), 1)
	require.NoError(t, err)
	require.Len(t, fds, 1)
	require.NoError(t, unix.Close(fds[0]))
	_, err = read.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF, "nobody holds another")

	_, err = io.WriteString(agent, "ahoy")
	require.NoError(t, err)
	fds, err = Take(service, make([]byte, 4), 1)
	require.NoError(t, err)
	assert.Empty(t, fds)

	_, err = io.WriteString(agent, "a")
	require.NoError(t, err)
	require.NoError(t, agent.Close())
	_, err = Take(service, make([]byte, 4), 1)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	_, err = Take(service, make([]byte, 4), 1)
	assert.ErrorIs(t, err, io.EOF)
}
