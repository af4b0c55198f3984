package gateway

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/hostkeys"
	"domicile/internal/records"
)

func newSigner(t *testing.T) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return signer
}

// newKeys are keys of a host.
func newKeys(t *testing.T) func() hostkeys.Set {
	t.Helper()
	folder, err := hostKeys()
	require.NoError(t, err)
	return folder.Now
}

// hostKeys are those of all tests: making an RSA key takes its time.
var hostKeys = sync.OnceValues(func() (*hostkeys.Folder, error) {
	folder, err := os.MkdirTemp("", "hostkeys-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	return hostkeys.Open(folder)
})

// town is a Directory and a Reacher of one person with one workspace, behind which an
// agent of the test's own stands.
type town struct {
	t       *testing.T
	key     ssh.PublicKey
	state   string
	agent   func(ssh.Conn, <-chan ssh.NewChannel, <-chan *ssh.Request)
	reached bool
	as      string // whom it was reached as
	guests  townsGuests
}

func (o *town) KeyByFingerprint(_ context.Context, fingerprint string) (records.Key, error) {
	if fingerprint != ssh.FingerprintSHA256(o.key) {
		return records.Key{}, records.ErrNotFound
	}
	return records.Key{Account: 7}, nil
}

func (o *town) WorkspaceByName(_ context.Context, account int64, name string) (records.Workspace, error) {
	if account != 7 || name != "deck" {
		return records.Workspace{}, records.ErrNotFound
	}
	return records.Workspace{Account: account, Name: name, State: o.state}, nil
}

func (o *town) Workspaces(context.Context, int64) ([]records.Workspace, error) {
	return []records.Workspace{{Name: "deck"}, {Name: "cabin"}}, nil
}

func (o *town) Ended(_ context.Context, all []records.Credential) ([]records.Credential, error) {
	return nil, nil
}

func (o *town) Touch(context.Context, int64) error { return nil }

func (o *town) ReachAs(ctx context.Context, w records.Workspace, user string) (*agentlink.Link, error) {
	o.as = user
	if user == "nobody" {
		return nil, fault.New("not-allowed-here", "ask", "nobody is not allowed")
	}
	return o.Reach(ctx, w)
}

func (o *town) Reach(ctx context.Context, _ records.Workspace) (*agentlink.Link, error) {
	o.reached = true
	// Both sides of SSH speak first: an unbuffered pipe would stall.
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer l.Close()
	near, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		return nil, err
	}
	far, err := l.Accept()
	if err != nil {
		return nil, err
	}
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(newSigner(o.t))
	go func() {
		c, channels, requests, err := ssh.NewServerConn(far, config)
		if err == nil {
			o.agent(c, channels, requests)
		}
	}()
	return agentlink.Open(ctx, near, newSigner(o.t))
}

// serve starts a gateway of the town, and tells its address.
func (o *town) serve(t *testing.T) (s *Server, at string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(cancel)
	s = &Server{Directory: o, Reacher: o, HostKeys: newKeys(t), Log: slog.New(slog.DiscardHandler)}
	go func() { _ = s.Serve(ctx, listener) }()
	return s, listener.Addr().String()
}

// dial connects to a gateway of the town as a user with a key.
func (o *town) dial(t *testing.T, user string, key ssh.Signer) (*ssh.Client, error) {
	t.Helper()
	s, at := o.serve(t)
	c, err := ssh.Dial("tcp", at, &ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.FixedHostKey(s.HostKeys().Present.PublicKey())})
	if err == nil {
		t.Cleanup(func() { c.Close() })
	}
	return c, err
}

// echoing answers sessions: what comes in goes out, then a word on standard error, then a status.
func echoing(_ ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	go func() {
		for r := range requests {
			_ = r.Reply(r.Type == "tcpip-forward", []byte("answer"))
		}
	}()
	for c := range channels {
		if c.ChannelType() != "session" {
			_ = c.Reject(ssh.ConnectionFailed, "no "+c.ChannelType()+" with "+string(c.ExtraData()))
			continue
		}
		channel, requests, _ := c.Accept()
		go func() {
			for r := range requests {
				_ = r.Reply(true, nil)
				if r.Type != "exec" {
					continue
				}
				go func() {
					_, _ = io.Copy(channel, channel)
					_, _ = io.WriteString(channel.Stderr(), strings.Repeat("aside ", 5000))
					_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{9}))
					channel.Close()
				}()
			}
		}()
	}
}

func TestSplicingPassesAllOfASession(t *testing.T) {
	key := newSigner(t)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: echoing}
	c, err := o.dial(t, "deck", key)
	require.NoError(t, err)
	cargo := make([]byte, 3<<20)
	_, _ = rand.Read(cargo)
	for range 5 {
		s, err := c.NewSession()
		require.NoError(t, err)
		var out, errs bytes.Buffer
		s.Stdin, s.Stdout, s.Stderr = bytes.NewReader(cargo), &out, &errs
		var exit *ssh.ExitError
		require.ErrorAs(t, s.Run("echo"), &exit)
		assert.Equal(t, 9, exit.ExitStatus())
		assert.True(t, bytes.Equal(cargo, out.Bytes()), "got %d of %d bytes", out.Len(), len(cargo))
		assert.Equal(t, 30000, errs.Len(), "standard error is whole too")
	}
}

func TestSplicingPassesRefusalsAndAnswers(t *testing.T) {
	key := newSigner(t)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: echoing}
	c, err := o.dial(t, "deck", key)
	require.NoError(t, err)
	var refused *ssh.OpenChannelError
	_, _, err = c.OpenChannel("direct-tcpip", []byte("its target"))
	require.True(t, errors.As(err, &refused))
	assert.Equal(t, "no direct-tcpip with its target", refused.Message)
	ok, answer, err := c.SendRequest("tcpip-forward", true, nil)
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "answer", string(answer))
	_, _, err = c.OpenChannel("task@domicile", nil)
	require.True(t, errors.As(err, &refused))
	assert.Equal(t, ssh.Prohibited, refused.Reason, "what is between service and agent is not the person's")
	s, err := c.NewSession()
	require.NoError(t, err)
	defer s.Close()
	for name, passes := range map[string]bool{"env": true, wire.HandOver: false} {
		ok, err := s.SendRequest(name, true, nil)
		require.NoError(t, err)
		assert.Equal(t, passes, ok, name)
	}
	ok, _, err = c.SendRequest("configure@domicile", true, nil)
	require.NoError(t, err)
	assert.False(t, ok)
}

func TestWhenOneSideEndsTheOtherDoes(t *testing.T) {
	key := newSigner(t)
	agents := make(chan ssh.Conn, 1)
	o := &town{t: t, key: key.PublicKey(), state: records.Ready, agent: func(c ssh.Conn, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
		agents <- c
		echoing(c, channels, requests)
	}}
	c, err := o.dial(t, "deck", key)
	require.NoError(t, err)
	(<-agents).Close()
	ended := make(chan struct{})
	go func() {
		_ = c.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("the person's side still stands")
	}
}

func TestWhoIsRefusedAndHow(t *testing.T) {
	key := newSigner(t)
	said := func(o *town, user string) string {
		t.Helper()
		return o.saidTo(t, user, key)
	}
	stopped := &town{t: t, key: key.PublicKey(), state: records.Stopped}
	assert.Equal(t, "The workspace deck is stopped. To start it: domicile start deck", said(stopped, "deck"))
	assert.Equal(t, `You have no workspace "bridge". Yours: deck, cabin. To make one: domicile provision -name bridge SOURCE`, said(stopped, "bridge"))
	ready := &town{t: t, key: key.PublicKey(), state: records.Ready}
	assert.Equal(t, "nobody is not allowed. What to do: ask.", said(ready, "deck+nobody"))
	assert.Equal(t, "nobody", ready.as)
	assert.Contains(t, said(ready, "deck+0"), "is no name of a user")
	c, err := stopped.dial(t, "deck", key)
	require.NoError(t, err)
	_, err = c.Dial("tcp", "127.0.0.1:80")
	assert.ErrorContains(t, err, "domicile start deck", "a forward is told too")
	_, err = stopped.dial(t, "deck", newSigner(t))
	assert.ErrorContains(t, err, "unable to authenticate")
}
