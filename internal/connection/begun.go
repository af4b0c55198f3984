package connection

import (
	"io"
	"net"
)

// begun is a stream on which something was read and written already.
type begun struct {
	net.Conn
	from   io.Reader
	unsaid int
}

// Begun is a stream that somebody has begun: what comes is read from another reader, which may have some
// of it already, and the first bytes that are written were sent before, and are not sent again.
func Begun(stream net.Conn, from io.Reader, unsaid int) net.Conn {
	return &begun{stream, from, unsaid}
}

func (b *begun) Read(p []byte) (int, error) { return b.from.Read(p) }

func (b *begun) Write(p []byte) (int, error) {
	skip := min(b.unsaid, len(p))
	b.unsaid -= skip
	if skip == len(p) {
		return skip, nil
	}
	n, err := b.Conn.Write(p[skip:])
	return skip + n, err
}
