// Package linktest is an agent for tests: the other end of a stream, where whatever root of a
// workspace may have put in the agent's place answers. It works in a bubble of testing/synctest.
package linktest

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// Agent answers what comes; a nil function leaves it without an answer.
type Agent struct {
	Requests func(*ssh.Request)
	Channels func(ssh.NewChannel)
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
	config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(Signer(t))
	go func() {
		_, channels, requests, err := ssh.NewServerConn(far, config)
		if err != nil {
			return
		}
		defer far.Close()
		go func() {
			for c := range channels {
				if a.Channels != nil {
					a.Channels(c)
				}
			}
		}()
		for r := range requests {
			if a.Requests != nil {
				a.Requests(r)
			}
		}
	}()
	return near
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
