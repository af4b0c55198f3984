package channel

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pipe is a connection over loopback, with both its ends.
func pipe(t *testing.T) (one, other net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	one, err = net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	other, err = l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { one.Close(); other.Close() })
	return one, other
}

// A machine that calls is asked as one behind serial ports is.
func TestAMachineThatCalls(t *testing.T) {
	service, machine := pipe(t)
	over := make(chan error, 1)
	go func() {
		over <- Call(machine, func(_ context.Context, to string, stream net.Conn) {
			_, _ = io.WriteString(stream, "this is "+to)
		})
	}()
	line, err := Called(service)
	require.NoError(t, err)
	stream, err := line.Dial(t.Context(), ToEngine)
	require.NoError(t, err)
	said, err := io.ReadAll(stream)
	require.NoError(t, err)
	assert.Equal(t, "this is engine", string(said))
	machine.Close()
	select {
	case <-line.Over():
	case <-time.After(10 * time.Second):
		t.Fatal("a connection that is cut is over")
	}
	assert.Error(t, <-over)
}

// frame is the head of a frame of yamux.
func frame(kind byte, flags uint16, stream, length uint32) []byte {
	b := make([]byte, frameHead)
	b[1] = kind
	binary.BigEndian.PutUint16(b[flagsAt:], flags)
	binary.BigEndian.PutUint32(b[4:], stream)
	binary.BigEndian.PutUint32(b[lengthAt:], length)
	return b
}

// Whoever is root in an instance may ask without end whether the service is there, or open
// streams: that ends the session.
func TestACallerThatSendsWhatIsNotItsToSend(t *testing.T) {
	for name, sends := range map[string]func(conn net.Conn){
		"a stream of its own": func(conn net.Conn) { _, _ = conn.Write(frame(1, flagOpened, 2, 0)) },
		"pings without end": func(conn net.Conn) {
			for n := range uint32(10 * mostPings) {
				if _, err := conn.Write(frame(framePing, flagOpened, 0, n)); err != nil {
					return
				}
			}
		},
	} {
		service, machine := pipe(t)
		line, err := Called(service)
		require.NoError(t, err)
		go func() { _, _ = io.Copy(io.Discard, machine) }()
		sends(machine)
		select {
		case <-line.Over():
		case <-time.After(10 * time.Second):
			t.Error(name)
		}
	}
}
