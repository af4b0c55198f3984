package callhome

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// home is a service that admits the instance of one order.
type home struct {
	at      string
	pin     []byte
	taken   chan Call
	conns   chan net.Conn
	refused chan error
}

func newHome(t *testing.T, admit func(Call) error) *home {
	t.Helper()
	public, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	h := &home{at: l.Addr().String(), taken: make(chan Call, 9), conns: make(chan net.Conn, 9), refused: make(chan error, 9)}
	h.pin, err = Pin(public)
	require.NoError(t, err)
	a := Answerer{Key: key, Admit: func(_ context.Context, c Call) error { return admit(c) },
		Take:    func(c Call, conn net.Conn) { h.taken <- c; h.conns <- conn },
		Refused: func(_ net.Addr, err error) { h.refused <- err }}
	over := make(chan error, 1)
	go func() { over <- a.Serve(t.Context(), l) }()
	t.Cleanup(func() { l.Close(); assert.NoError(t, <-over) })
	return h
}

func newKey(t *testing.T) ed25519.PrivateKey {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return key
}

func TestAnInstanceCalls(t *testing.T) {
	h := newHome(t, func(c Call) error { return nil })
	key := newKey(t)
	conn, err := Dial(FirstBoot{Home: h.at, Pin: h.pin, Token: "order", Proof: []byte("proof")}, key)
	require.NoError(t, err)
	defer conn.Close()
	c := <-h.taken
	assert.Equal(t, "order", c.Token)
	assert.Equal(t, []byte("proof"), c.Proof)
	assert.Equal(t, key.Public(), c.Key)
	at := <-h.conns
	_, err = conn.Write([]byte("ahoy")) // nothing of it was taken with the first line
	require.NoError(t, err)
	b := make([]byte, 4)
	_, err = io.ReadFull(at, b)
	require.NoError(t, err)
	assert.Equal(t, "ahoy", string(b))
}

func TestAServiceWithAnotherKeyIsNotCalled(t *testing.T) {
	h := newHome(t, func(Call) error { return nil })
	_, err := Dial(FirstBoot{Home: h.at, Pin: bytes.Repeat([]byte{7}, 32), Token: "order"}, newKey(t))
	assert.ErrorContains(t, err, "another key")
	assert.Error(t, <-h.refused)
	assert.Empty(t, h.taken)
}

func TestWhoIsNotAdmittedIsCutOff(t *testing.T) {
	h := newHome(t, func(c Call) error { return errors.New("nobody ordered it") })
	conn, err := Dial(FirstBoot{Home: h.at, Pin: h.pin, Token: "order"}, newKey(t))
	require.NoError(t, err)
	defer conn.Close()
	assert.ErrorContains(t, <-h.refused, "nobody ordered it")
	_, err = conn.Read(make([]byte, 1))
	assert.Error(t, err)
}

// Whoever reaches the port may say anything.
func TestWhatIsNoCall(t *testing.T) {
	h := newHome(t, func(Call) error { return nil })
	own, err := certificate(newKey(t))
	require.NoError(t, err)
	say := func(text string, certificates ...tls.Certificate) {
		conn, err := tls.Dial("tcp", h.at, &tls.Config{InsecureSkipVerify: true, Certificates: certificates})
		if err == nil {
			_, _ = io.WriteString(conn, text) // it may be cut off meanwhile
			defer conn.Close()
		}
		assert.Error(t, <-h.refused, text)
	}
	say("not JSON\n", own)
	say(strings.Repeat("x", 2*mostHello), own)
	say(`{"token": "order"}` + "\n") // without a key
	plain, err := net.Dial("tcp", h.at)
	require.NoError(t, err)
	_, err = io.WriteString(plain, "GET / HTTP/1.0\r\n\r\n")
	require.NoError(t, err)
	assert.Error(t, <-h.refused)
	plain.Close()
	assert.Empty(t, h.taken)
}
