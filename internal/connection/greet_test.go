package connection

import (
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

func TestTheWayIsPlainOnlyWhereTheStreamIsPrivate(t *testing.T) {
	service, _ := ways["plain frames"](t)
	assert.IsType(t, &mux{}, service.Conn)
	service, _ = ways["SSH"](t)
	assert.IsType(t, overSSH{}, service.Conn)
}

// The agent lets in the service alone, however it comes.
func TestWhoIsLetIn(t *testing.T) {
	key, stranger := signer(t), signer(t)
	serve := func() (net.Conn, chan error) {
		near, far := stream(t)
		met := make(chan error, 1)
		go func() {
			_, _, err := Accept(far, config(t, key), key.PublicKey())
			far.Close()
			met <- err
		}()
		return near, met
	}
	near, met := serve()
	_, err := Dial(Private(near), stranger)
	require.NoError(t, err, "it is told by the first answer")
	assert.ErrorIs(t, <-met, errNotTheService)
	near, met = serve()
	_, err = Dial(near, stranger)
	assert.ErrorContains(t, err, "unable to authenticate")
	assert.Error(t, <-met)

	// What was signed for another visit proves nothing.
	recorded := func() []byte {
		near, far := net.Pipe()
		defer far.Close()
		said := make(chan []byte, 1)
		go func() {
			b := make([]byte, 200)
			_, _ = io.WriteString(far, "SSH-2.0-quay "+framesWord+strings.Repeat("A", 43)+"\r\n")
			n, _ := far.Read(b)
			said <- b[:n]
		}()
		_, err := Dial(Private(near), key)
		require.NoError(t, err)
		return <-said
	}()
	for name, says := range map[string][]byte{
		"a proof of another visit": recorded,
		"no proof":                 []byte(begins + "\x00\x00\x00\x00"),
		"a proof without end":      []byte(begins + "\xff\xff\xff\xff"),
		"another word":             []byte("domicile-hold-on-a-minute"),
		"half a word":              []byte("domi"),
		"the web":                  []byte("GET / HTTP/1.1\r\n\r\n"),
	} {
		t.Run(name, func(t *testing.T) {
			near, met := serve()
			_, err := near.Write(says)
			require.NoError(t, err)
			require.NoError(t, near.(*net.TCPConn).CloseWrite())
			assert.Error(t, <-met)
		})
	}
}

// An agent of an earlier version, or none at all, is spoken to in SSH, also on a private stream.
func TestAnAgentThatKnowsSSHAlone(t *testing.T) {
	key := signer(t)
	near, far := stream(t)
	go func() {
		_, channels, requests, err := ssh.NewServerConn(far, config(t, key))
		if err == nil {
			OverSSH(nil, channels, requests).Quiet()
		}
	}()
	service, err := Dial(Private(near), key)
	require.NoError(t, err)
	assert.IsType(t, overSSH{}, service.Conn)
	_, _, err = service.OpenChannel("session", nil)
	assert.ErrorContains(t, err, "not here")
}
