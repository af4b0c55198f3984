package trial

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"domicile/internal/client"
)

// pier is a service with an SSH server, as the test has it.
type pier struct {
	t        *testing.T
	key      ssh.Signer // of the server
	taken    string     // the fingerprint of the key that is let in
	known    client.Ways
	keys     []client.Key
	refuses  bool // sessions
	silent   bool // in sessions
	noTunnel bool
	tunnel   string // the address of the way through the service
}

func newKey(t *testing.T) (ssh.Signer, ed25519.PrivateKey) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return signer, key
}

// newPier makes one where all is well, and a person whose key is in a folder.
func newPier(t *testing.T) (*pier, Options) {
	t.Helper()
	p := &pier{t: t}
	p.key, _ = newKey(t)
	port := p.listen(func(conn net.Conn) { p.serve(conn, false) })
	p.tunnel = p.listen(func(conn net.Conn) { p.serve(conn, true) }).String()
	signer, key := newKey(t)
	folder := t.TempDir()
	block, err := ssh.MarshalPrivateKey(key, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "id_ed25519"), pem.EncodeToMemory(block), 0o600))
	p.taken = ssh.FingerprintSHA256(signer.PublicKey())
	p.keys = []client.Key{{Fingerprint: p.taken}}
	steps := []client.TriedStep{{Name: "the workspace runs", Fine: true}, {Name: "its agent answers", Fine: true}, {Name: "the SSH server answers", Fine: true}, {Name: "you have a key", Fine: true}}
	p.known = client.Ways{Workspace: "deck", User: "deck", Host: "127.0.0.1", Port: port.(*net.TCPAddr).Port, HostKey: string(ssh.MarshalAuthorizedKey(p.key.PublicKey())),
		Fingerprint: ssh.FingerprintSHA256(p.key.PublicKey()), Clock: time.Now(), Steps: steps}
	settings := filepath.Join(folder, "config")
	require.NoError(t, os.WriteFile(settings, []byte("IdentitiesOnly yes\nIdentityFile "+filepath.Join(folder, "id_ed25519")+"\n"), 0o600))
	return p, Options{Service: p, URL: "http://pier", Workspace: "deck", Keys: Keys{Folder: folder}, Settings: settings}
}

// listen serves who comes to a port of loopback.
func (p *pier) listen(serve func(net.Conn)) net.Addr {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(p.t, err)
	p.t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go serve(conn)
		}
	}()
	return listener.Addr()
}

// serve speaks SSH; open lets in who has no key, as the way through the service does.
func (p *pier) serve(conn net.Conn, open bool) {
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if ssh.FingerprintSHA256(key) != p.taken {
			return nil, errors.New("not this one")
		}
		return nil, nil
	}, NoClientAuth: open}
	config.AddHostKey(p.key)
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		if p.refuses {
			_ = c.Reject(ssh.ResourceShortage, "the deck is being scrubbed")
			continue
		}
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				_ = r.Reply(true, nil)
				if r.Type == "exec" && !p.silent {
					_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{0}))
					channel.Close()
				}
			}
		}()
	}
}

func (p *pier) Ways(context.Context, string) (client.Ways, error) { return p.known, nil }

func (p *pier) Keys(context.Context) ([]client.Key, error) { return p.keys, nil }

func (p *pier) SSH(context.Context, string) (*ssh.Client, error) {
	if p.noTunnel {
		return nil, errors.New("a proxy lets no WebSocket through")
	}
	return ssh.Dial("tcp", p.tunnel, &ssh.ClientConfig{User: "deck", HostKeyCallback: ssh.InsecureIgnoreHostKey()})
}

func TestAllIsWell(t *testing.T) {
	_, o := newPier(t)
	r, err := Run(t.Context(), o)
	require.NoError(t, err)
	require.Len(t, r.Ways, 2)
	for _, w := range r.Ways {
		assert.True(t, w.Works, "%+v", w)
	}
	assert.Contains(t, r.Ways[0].Line, "deck@127.0.0.1")
}

// At which step a way fails, why, and what to do.
func TestWhereAWayFails(t *testing.T) {
	for name, c := range map[string]struct {
		change      func(*testing.T, *pier, *Options)
		step, found string
		remedy      string
	}{
		"no key here": {func(t *testing.T, _ *pier, o *Options) { o.Keys.Folder = t.TempDir() },
			"a key of yours is at this machine and known", "no key is at this machine", "domicile keys add"},
		"a key that is not known": {func(_ *testing.T, p *pier, _ *Options) { p.keys = []client.Key{{Fingerprint: "SHA256:another"}} },
			"a key of yours is at this machine and known", "knows none of", "domicile keys add"},
		"no key is known": {func(_ *testing.T, p *pier, _ *Options) { p.known.Steps[3].Fine = false },
			"a key of yours is at this machine and known", "the service knows no key of yours", "domicile keys add"},
		"a key with a passphrase": {func(t *testing.T, p *pier, o *Options) {
			signer, key := newKey(t)
			block, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte("tide"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(o.Keys.Folder, "id_ed25519"), pem.EncodeToMemory(block), 0o600))
			p.keys = []client.Key{{Fingerprint: ssh.FingerprintSHA256(signer.PublicKey())}}
		}, "a key of yours is at this machine and known", "locked by a passphrase", "ssh-add"},
		"a port that is closed": {func(t *testing.T, p *pier, _ *Options) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			p.known.Port = l.Addr().(*net.TCPAddr).Port
			l.Close()
			p.noTunnel = true
		}, "answers", "nobody answers from here", "domicile usher"},
		"another host key": {func(t *testing.T, p *pier, _ *Options) {
			other, _ := newKey(t)
			p.known.HostKey, p.known.Fingerprint = string(ssh.MarshalAuthorizedKey(other.PublicKey())), ssh.FingerprintSHA256(other.PublicKey())
		}, "it signs you in, and the known host key answers", "somebody else answers there", "do not go on"},
		"not let in": {func(_ *testing.T, p *pier, _ *Options) { p.taken = "SHA256:nobody" },
			"it signs you in, and the known host key answers", "the key is not taken", "domicile keys"},
		"a key that others may read": {func(t *testing.T, _ *pier, o *Options) {
			require.NoError(t, os.Chmod(filepath.Join(o.Keys.Folder, "id_ed25519"), 0o644))
		}, "OpenSSH's client does it too", "UNPROTECTED PRIVATE KEY FILE", "ssh -v -p"},
		"settings with another key": {func(t *testing.T, _ *pier, o *Options) {
			require.NoError(t, os.WriteFile(o.Settings, []byte("IdentitiesOnly yes\nIdentityFile /nowhere\n"), 0o600))
		}, "OpenSSH's client does it too", "Permission denied", "ssh -v -p"},
		"no session": {func(_ *testing.T, p *pier, _ *Options) { p.refuses = true },
			"a session", "the deck is being scrubbed", ""},
	} {
		t.Run(name, func(t *testing.T) {
			p, o := newPier(t)
			c.change(t, p, &o)
			r, err := Run(t.Context(), o)
			require.NoError(t, err)
			w := r.Ways[0]
			assert.False(t, w.Works)
			last := w.Steps[len(w.Steps)-1]
			assert.Contains(t, last.Name, c.step)
			assert.Contains(t, last.Found, c.found)
			assert.Contains(t, last.Remedy, c.remedy)
			for _, before := range w.Steps[:len(w.Steps)-1] {
				assert.True(t, before.Fine)
			}
		})
	}
}

// Who is silent is told so, and keeps nobody waiting beyond the limit of a step.
func TestASilentSession(t *testing.T) {
	p, _ := newPier(t)
	p.silent = true
	c, err := p.SSH(t.Context(), "deck")
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = session(ctx, c)
	assert.ErrorContains(t, err, "nothing comes")
}

func TestBeforeAllWays(t *testing.T) {
	p, o := newPier(t)
	p.known.Clock = time.Now().Add(-time.Hour)
	r, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.False(t, r.Before[1].Fine)
	assert.Contains(t, r.Before[1].Found, "ahead of the service's")
	p.known.Steps[0] = client.TriedStep{Name: "the workspace runs", Found: "it is stopped", Remedy: new("domicile start deck")}
	r, err = Run(t.Context(), o)
	require.NoError(t, err)
	assert.Empty(t, r.Ways, "no way is shown into a workspace that does not run")
	assert.Equal(t, "domicile start deck", r.Before[2].Remedy)
}

func TestKeysOfTheSSHAgent(t *testing.T) {
	p, o := newPier(t)
	signer, key := newKey(t)
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: key, Comment: "skipper@quay"}))
	socket := filepath.Join(t.TempDir(), "agent")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { _ = agent.ServeAgent(ring, conn) }()
		}
	}()
	p.taken = ssh.FingerprintSHA256(signer.PublicKey())
	p.keys = []client.Key{{Fingerprint: p.taken}}
	o.Keys = Keys{Agent: socket}
	require.NoError(t, os.WriteFile(o.Settings, nil, 0o600))
	r, err := Run(t.Context(), o)
	require.NoError(t, err)
	assert.True(t, r.Ways[0].Works, "%+v", r.Ways[0])
	assert.True(t, strings.HasSuffix(r.Ways[0].Steps[1].Found, "skipper@quay"))
}
