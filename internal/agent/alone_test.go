package agent_test

import (
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/connection"
)

// The service gets the connection to a program inside, and says that it is used; where nothing listens, that
// is said; and nothing else is done alone on a stream.
func TestAProgramIsReachedAlone(t *testing.T) {
	link := configured(t).Quiet()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		b, _ := io.ReadAll(c)
		_, _ = c.Write(append([]byte("heard "), b...))
		c.Close()
	}()
	conn, err := link.DialAlone(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "the tide turns")
	require.NoError(t, err)
	socket := conn.(interface{ NetConn() net.Conn }).NetConn().(*net.TCPConn)
	assert.Equal(t, l.Addr(), socket.RemoteAddr(), "nobody stands between")
	require.NoError(t, socket.CloseWrite())
	b, err := io.ReadAll(conn)
	require.NoError(t, err)
	assert.Equal(t, "heard the tide turns", string(b))

	l.Close()
	_, err = link.DialAlone(t.Context(), "tcp", l.Addr().String())
	var refused *ssh.OpenChannelError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Message, "nothing answers at "+l.Addr().String())
	for kind, extra := range map[string]string{"session": "", "direct-tcpip": "no target"} {
		stream, err := link.Again(t.Context())
		require.NoError(t, err)
		_, err = connection.DialAlone(stream, service, kind, []byte(extra), link.Place(), 1)
		assert.ErrorAs(t, err, &refused, kind)
		stream.Close()
	}
}
