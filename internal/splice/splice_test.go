package splice

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// plain hides what else a reader can do.
type plain struct{ io.Reader }

// pieces gives a text in pieces of any size, as a network does.
type pieces struct {
	rest []byte
	r    *rand.Rand
}

func (p *pieces) Read(b []byte) (int, error) {
	if len(p.rest) == 0 {
		return 0, io.EOF
	}
	n := copy(b, p.rest[:min(len(p.rest), 1+p.r.IntN(1+p.r.IntN(2*busy)))])
	p.rest = p.rest[n:]
	return n, nil
}

// What is copied is whole, whatever comes at a time.
func TestACopyIsWhole(t *testing.T) {
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 1))
		cargo := make([]byte, r.IntN(1<<20))
		for i := range cargo {
			cargo[i] = byte(r.Uint32())
		}
		var out bytes.Buffer
		require.NoError(t, Copy(struct{ io.Writer }{&out}, &pieces{cargo, r}))
		require.True(t, bytes.Equal(cargo, out.Bytes()), "seed %d: %d of %d bytes", seed, out.Len(), len(cargo))
	}
	for name, from := range map[string]io.Reader{
		"byte by byte":               plain{iotest.OneByteReader(bytes.NewReader(make([]byte, 5000)))},
		"the end with the last data": plain{iotest.DataErrReader(bytes.NewReader(make([]byte, 5000)))},
		"one that copies itself":     bytes.NewReader(make([]byte, 5000)),
	} {
		var out bytes.Buffer
		require.NoError(t, Copy(struct{ io.Writer }{&out}, from), name)
		assert.Equal(t, 5000, out.Len(), name)
	}
}

// An error of either side is told, and what came before it is copied.
func TestACopyThatBreaks(t *testing.T) {
	broken := errors.New("the rope parted")
	var out bytes.Buffer
	err := Copy(&out, plain{io.MultiReader(bytes.NewReader(make([]byte, 3*idle)), iotest.ErrReader(broken))})
	assert.ErrorIs(t, err, broken)
	assert.Equal(t, 3*idle, out.Len())
	near, far := net.Pipe()
	far.Close()
	assert.ErrorIs(t, Copy(near, plain{bytes.NewReader(make([]byte, 9))}), io.ErrClosedPipe)
}

// The end of one direction is passed on while the other goes on.
func TestTheEndOfOneDirection(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		b, _ := io.ReadAll(c) // until the other side has said all
		_, _ = c.Write(append([]byte("heard "), b...))
		c.Close()
	}()
	outer, inner := tcp(t)
	joined := make(chan error, 1)
	go func() { joined <- Local(t.Context(), inner, l.Addr().(*net.TCPAddr).Port) }()
	_, err = io.WriteString(outer, "ahoy")
	require.NoError(t, err)
	require.NoError(t, outer.(*net.TCPConn).CloseWrite())
	b, err := io.ReadAll(outer)
	require.NoError(t, err)
	assert.Equal(t, "heard ahoy", string(b))
	require.NoError(t, <-joined)
	_, inner = tcp(t)
	assert.ErrorContains(t, Local(t.Context(), inner, 1), "nothing answers at port 1 of this machine")
}

func tcp(t *testing.T) (net.Conn, net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	near, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	far, err := l.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { near.Close(); far.Close() })
	return near, far
}
