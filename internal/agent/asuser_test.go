package agent_test

import (
	"context"
	"io"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/connection"
)

// crew is a user without a name of its own and without rights.
const crew = "54321:54321"

// asCrew is a connection whose person is not root, and a folder that is that person's.
func asCrew(t *testing.T) (*agentlink.Link, string) {
	t.Helper()
	link := connect(t)
	_, err := link.Configure(t.Context(), wire.Session{User: crew, Folder: "/", Probe: "none", Workspace: "deck"})
	require.NoError(t, err)
	t.Cleanup(func() { // the agent is everybody's of this file
		_, err := link.Configure(context.WithoutCancel(t.Context()), wire.Session{User: "root", Folder: "/", Probe: "none", Workspace: "deck"})
		assert.NoError(t, err)
	})
	home, err := os.MkdirTemp("", "crew-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(home) })
	require.NoError(t, os.Chown(home, 54321, 54321))
	return link, home
}

func dialUnix(link *agentlink.Link, path string) error {
	channel, requests, err := link.Conn.OpenChannel("direct-streamlocal@openssh.com", ssh.Marshal(struct {
		Path, Reserved string
		Unused         uint32
	}{path, "", 0}))
	if err != nil {
		return err
	}
	go connection.Discard(requests)
	return channel.Close()
}

// What a person asks for is done with the person's rights, not with the agent's.
func TestForwardsHaveThePersonsRights(t *testing.T) {
	link, home := asCrew(t)
	assert.ErrorContains(t, dialUnix(link, socket), "permission denied", "the agent's own socket is root's")
	closed := t.TempDir()
	l, err := net.Listen("unix", filepath.Join(closed, "root.sock"))
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Chmod(closed, 0o755))
	require.NoError(t, os.Chmod(filepath.Join(closed, "root.sock"), 0o600))
	assert.ErrorContains(t, dialUnix(link, filepath.Join(closed, "root.sock")), "denied")

	bind := func(path string) bool {
		ok, _, err := link.Conn.SendRequest("streamlocal-forward@openssh.com", true, ssh.Marshal(struct{ Path string }{path}))
		require.NoError(t, err)
		return ok
	}
	for _, path := range []string{filepath.Join(closed, "made.sock"), "/etc/made.sock", "/run/made.sock"} {
		assert.False(t, bind(path), path)
		assert.NoFileExists(t, path)
	}
	mine := filepath.Join(home, "mine.sock")
	require.True(t, bind(mine))
	info, err := os.Stat(mine)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "for that person alone")
	owner := info.Sys().(*syscall.Stat_t)
	assert.Equal(t, []uint32{54321, 54321}, []uint32{owner.Uid, owner.Gid})
	assert.NoError(t, dialUnix(link, mine))
	// A link that leads elsewhere by the time the socket goes is removed, not what it leads to.
	require.NoError(t, os.Remove(mine))
	require.NoError(t, os.Symlink(filepath.Join(closed, "root.sock"), mine))
	ok, _, err := link.Conn.SendRequest("cancel-streamlocal-forward@openssh.com", true, ssh.Marshal(struct{ Path string }{mine}))
	require.NoError(t, err)
	assert.True(t, ok)
	assert.FileExists(t, filepath.Join(closed, "root.sock"))
}

// Access to the agent's socket opens nothing: whoever is not the service is not let in.
func TestOnlyTheServiceIsLetIn(t *testing.T) {
	connect(t)
	for name, auth := range map[string][]ssh.AuthMethod{"no key": nil, "another key": {ssh.PublicKeys(strange)}, "a password": {ssh.Password("")}} {
		t.Run(name, func(t *testing.T) {
			stream, err := net.Dial("unix", socket)
			require.NoError(t, err)
			defer stream.Close()
			_, _, _, err = ssh.NewClientConn(stream, "agent", &ssh.ClientConfig{User: "domicile", Auth: auth, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
			assert.ErrorContains(t, err, "unable to authenticate")
		})
	}
}

// A guest proves that it comes from the workspace, and is nobody before the agent was told.
func TestGuestsProveThemselves(t *testing.T) {
	link := connect(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	network, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.ServeGuests(ctx, network) }()
	come := func(key ssh.Signer) (string, error) {
		var auth []ssh.AuthMethod
		if key != nil {
			auth = append(auth, ssh.PublicKeys(key))
		}
		c, err := ssh.Dial("tcp", network.Addr().String(), &ssh.ClientConfig{User: "anybody", Auth: auth, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		if err != nil {
			return "", err
		}
		defer c.Close()
		s, err := c.NewSession()
		if err != nil {
			return "", err
		}
		out, err := s.StdoutPipe()
		if err != nil {
			return "", err
		}
		if err := s.Start("echo aboard"); err != nil {
			return "", err
		}
		b, err := io.ReadAll(out)
		return string(b), err
	}
	_, err = link.Configure(t.Context(), wire.Session{User: "root", Folder: "/", Probe: "none"})
	require.NoError(t, err)
	for _, key := range []ssh.Signer{nil, strange, service} {
		_, err := come(key)
		assert.ErrorContains(t, err, "unable to authenticate", "nobody is a guest here")
	}
	guest := newKey()
	_, err = link.Configure(t.Context(), wire.Session{User: "root", Folder: "/", Probe: "none", GuestKey: public(guest)})
	require.NoError(t, err)
	said, err := come(guest)
	require.NoError(t, err)
	assert.Equal(t, "aboard\n", said)
	for _, key := range []ssh.Signer{nil, strange} {
		_, err := come(key)
		assert.ErrorContains(t, err, "unable to authenticate")
	}
}
