package listen

import (
	"fmt"
	"io"
	"net"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// short is a listener that is short of descriptors for a while.
type short struct {
	net.Listener
	errs []error
}

func (s *short) Accept() (net.Conn, error) {
	if len(s.errs) > 0 {
		err := s.errs[0]
		s.errs = s.errs[1:]
		return nil, &net.OpError{Op: "accept", Err: err}
	}
	return s.Listener.Accept()
}

func TestAShortageEndsNoServer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := Patient(&short{l, []error{syscall.EMFILE, syscall.ENOBUFS, syscall.ECONNABORTED}})
	conn, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer conn.Close()
	accepted, err := p.Accept()
	require.NoError(t, err)
	accepted.Close()
	assert.NoError(t, p.Err())
	require.NoError(t, p.Close())
	_, err = p.Accept()
	assert.ErrorIs(t, err, net.ErrClosed)
	assert.ErrorIs(t, p.Err(), net.ErrClosed, "nobody is served any more")

	broken := Patient(&short{l, []error{syscall.EBADF}})
	_, err = broken.Accept()
	assert.ErrorIs(t, err, syscall.EBADF, "what does not pass by itself is an error")
}

func TestClosingEndsAPause(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	errs := make([]error, 1000)
	for i := range errs {
		errs[i] = syscall.EMFILE
	}
	p := Patient(&short{l, errs})
	over := make(chan error, 1)
	go func() {
		_, err := p.Accept()
		over <- err
	}()
	require.Eventually(t, func() bool { return p.Err() != nil }, 5*time.Second, time.Millisecond, "it says that it does not accept")
	require.NoError(t, p.Close())
	assert.ErrorIs(t, <-over, net.ErrClosed)
}

// from is a connection from an address.
type from struct {
	net.Conn
	addr   net.Addr
	closed chan struct{}
}

func (f *from) RemoteAddr() net.Addr { return f.addr }
func (f *from) Close() error         { close(f.closed); return nil }

func newFrom(ip string) *from {
	return &from{addr: &net.TCPAddr{IP: net.ParseIP(ip)}, closed: make(chan struct{})}
}

func TestManyAddressesDoNotFillTheRoom(t *testing.T) {
	n := &Newcomers{Total: 64, ByPrefix: 32}
	var all []*from
	for address := range 8 {
		for i := range 32 {
			c := newFrom(fmt.Sprintf("10.0.0.%d", address))
			if _, ok := n.Admit(c); ok {
				all = append(all, c)
			} else {
				assert.GreaterOrEqual(t, i, 8, "address %d", address)
			}
		}
	}
	one := newFrom("10.1.0.1")
	leave, ok := n.Admit(one)
	assert.True(t, ok, "somebody else comes in")
	closed := 0
	for _, c := range all {
		select {
		case <-c.closed:
			closed++
		case <-time.After(20 * time.Millisecond):
		}
	}
	assert.Equal(t, len(all)+1-64, closed, "the oldest of those who have most made room")
	leave()
	leave()
	assert.Equal(t, 63, n.all)
}

func TestA64CountsAsOneAddress(t *testing.T) {
	n := &Newcomers{Total: 100, ByPrefix: 2, ByTrusted: 3}
	for i := range 2 {
		_, ok := n.Admit(newFrom(fmt.Sprintf("2001:db8::%d", i)))
		assert.True(t, ok)
	}
	_, ok := n.Admit(newFrom("2001:db8::ffff:0:0:9"))
	assert.False(t, ok)
	_, ok = n.Admit(newFrom("2001:db8:0:1::9"))
	assert.True(t, ok, "another network")
	n.Trust(&net.TCPAddr{IP: net.ParseIP("2001:db8::77")})
	assert.True(t, n.Trusts(&net.TCPAddr{IP: net.ParseIP("2001:db8::78")}))
	_, ok = n.Admit(newFrom("2001:db8::9"))
	assert.True(t, ok, "somebody signed in from there")
}

func TestANewConnectionTakesThePlaceOfAnOldOne(t *testing.T) {
	n := &Newcomers{Total: 100, ByPrefix: 2, Replace: true}
	first := newFrom("10.0.0.1")
	for _, c := range []*from{first, newFrom("10.0.0.1"), newFrom("10.0.0.1")} {
		_, ok := n.Admit(c)
		assert.True(t, ok)
	}
	<-first.closed
}

// Who does not read what comes is cut off, and who reads slowly is not.
func TestWhoDoesNotReadIsCutOff(t *testing.T) {
	config := net.ListenConfig{Control: StallLimit(300 * time.Millisecond)}
	l, err := config.Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	sent := func(read bool) error {
		near, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		defer near.Close()
		far, err := l.Accept()
		require.NoError(t, err)
		defer far.Close()
		if read {
			go func() { _, _ = io.Copy(io.Discard, near) }()
		}
		_ = far.SetWriteDeadline(time.Now().Add(20 * time.Second))
		_, err = far.Write(make([]byte, 64<<20))
		return err
	}
	assert.ErrorIs(t, sent(false), syscall.ETIMEDOUT)
	assert.NoError(t, sent(true))
}
