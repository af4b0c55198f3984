// Package linktest is an agent for tests: the other end of a stream, where whatever root of a
// workspace may have put in the agent's place answers. It works in a bubble of testing/synctest.
package linktest

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"os"
	"syscall"
	"testing"

	"domicile/internal/connection"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Agent answers what comes; a nil function leaves it without an answer.
type Agent struct {
	Requests func(*connection.Request)
	Channels func(connection.NewChannel)
	Alone    func(*connection.Alone)
	// Met is called with each connection, through which the agent may open channels itself.
	Met func(connection.Conn)
}

// Signer makes a key.
func Signer(t testing.TB) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return s
}

// Stream gives a stream to the agent, which takes any key.
func (a Agent) Stream(t testing.TB) net.Conn {
	t.Helper()
	near, far := pipe()
	a.serve(t, far, nil)
	return near
}

// Private gives a private stream to the agent, which knows the service by its key.
func (a Agent) Private(t testing.TB, service ssh.PublicKey) net.Conn {
	t.Helper()
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	require.NoError(t, err)
	var ends [2]net.Conn
	for i, number := range pair {
		file := os.NewFile(uintptr(number), "")
		ends[i], err = net.FileConn(file)
		require.NoError(t, err)
		require.NoError(t, file.Close())
	}
	a.serve(t, ends[1], service)
	return connection.Private(ends[0])
}

func (a Agent) serve(t testing.TB, far net.Conn, service ssh.PublicKey) {
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-agent", PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(Signer(t))
	go func() {
		defer far.Close()
		peer, alone, err := connection.Accept(far, config, service)
		if err != nil {
			return
		}
		if alone != nil {
			if a.Alone != nil {
				a.Alone(alone)
			}
			return
		}
		if a.Met != nil {
			a.Met(peer.Conn)
		}
		go func() {
			for c := range peer.Channels {
				if a.Channels != nil {
					a.Channels(c)
				}
			}
		}()
		for r := range peer.Requests {
			if a.Requests != nil {
				a.Requests(r)
			}
		}
	}()
}

// unhurried is an end of a pipe to which can be written before the other one reads: in SSH both
// speak first.
type unhurried struct {
	net.Conn
	out    chan []byte
	closed context.Context
	close  context.CancelFunc
}

func pipe() (near, far net.Conn) {
	a, b := net.Pipe()
	return hurry(a), hurry(b)
}

func hurry(c net.Conn) net.Conn {
	u := unhurried{Conn: c, out: make(chan []byte, 4096)}
	u.closed, u.close = context.WithCancel(context.Background())
	go func() {
		for {
			select {
			case p := <-u.out:
				if _, err := c.Write(p); err != nil {
					return
				}
			case <-u.closed.Done():
				return
			}
		}
	}()
	return u
}

func (u unhurried) Write(p []byte) (int, error) {
	select {
	case u.out <- bytes.Clone(p):
		return len(p), nil
	case <-u.closed.Done():
		return 0, net.ErrClosed
	}
}

func (u unhurried) Close() error {
	u.close()
	return u.Conn.Close()
}
