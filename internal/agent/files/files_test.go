package files

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// serve serves a session in a folder, and gives the client's end.
func serve(t *testing.T) (home string, server *Server, conn net.Conn) {
	t.Helper()
	home = t.TempDir()
	server = &Server{Home: home}
	near, far := net.Pipe()
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(far, far) }()
	t.Cleanup(func() {
		near.Close()
		require.NoError(t, <-ended)
	})
	return home, server, near
}

// raw speaks packets.
type raw struct {
	*testing.T
	net.Conn
}

func (c raw) send(kind byte, body []byte) {
	c.Helper()
	_, err := c.Write(append(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+1)), kind), body...))
	require.NoError(c, err)
}

func (c raw) receive() (kind byte, r *reader) {
	c.Helper()
	require.NoError(c, c.SetReadDeadline(time.Now().Add(10*time.Second)))
	head := make([]byte, 5)
	_, err := io.ReadFull(c, head)
	require.NoError(c, err)
	body := make([]byte, number(head)-1)
	_, err = io.ReadFull(c, body)
	require.NoError(c, err)
	return head[4], &reader{rest: body}
}

func request(id uint32, parts ...string) []byte {
	b := binary.BigEndian.AppendUint32(nil, id)
	for _, p := range parts {
		b = text(b, p)
	}
	return b
}

func begin(t *testing.T) (home string, server *Server, c raw, offered map[string]string) {
	t.Helper()
	home, server, conn := serve(t)
	c = raw{t, conn}
	c.send(1, binary.BigEndian.AppendUint32(nil, 3))
	kind, r := c.receive()
	require.Equal(t, byte(kindVersion), kind)
	require.Equal(t, uint32(3), r.number())
	offered = map[string]string{}
	for len(r.rest) > 0 {
		name := r.text()
		offered[name] = r.text()
	}
	require.False(t, r.bad)
	return home, server, c, offered
}

// The library's own client finds its server, and ours between is not felt.
func TestAClientOfTheLibrary(t *testing.T) {
	home, _, conn := serve(t)
	c, err := sftp.NewClientPipe(conn, conn)
	require.NoError(t, err)
	cargo := make([]byte, 3<<20)
	for i := range cargo {
		cargo[i] = byte(i * 7)
	}
	f, err := c.Create("cargo")
	require.NoError(t, err)
	_, err = f.Write(cargo)
	require.NoError(t, err)
	require.NoError(t, f.Sync(), "fsync@openssh.com")
	require.NoError(t, f.Close())
	there, err := os.ReadFile(filepath.Join(home, "cargo"))
	require.NoError(t, err)
	assert.Equal(t, cargo, there)
	f, err = c.Open(filepath.Join(home, "cargo"))
	require.NoError(t, err)
	back, err := io.ReadAll(f)
	require.NoError(t, err)
	assert.Equal(t, cargo, back)
	require.NoError(t, f.Close())
	require.NoError(t, c.Symlink("../far/away", "link"))
	target, err := os.Readlink(filepath.Join(home, "link"))
	require.NoError(t, err)
	assert.Equal(t, "../far/away", target, "as it was written")
	assert.ErrorContains(t, c.Symlink("x", "link"), "file exists", "what is there stays")
	require.NoError(t, c.PosixRename("cargo", "moved"))
}

func TestExtensionsOfOpenSSH(t *testing.T) {
	home, server, c, offered := begin(t)
	for _, name := range []string{"fsync@openssh.com", "lsetstat@openssh.com", "limits@openssh.com", "expand-path@openssh.com", "posix-rename@openssh.com"} {
		assert.NotEmpty(t, offered[name], name)
	}
	require.NoError(t, os.Symlink("nowhere", filepath.Join(home, "link")))
	for path, want := range map[string]string{"~": home, "~/a/../b": filepath.Join(home, "b"), "c": filepath.Join(home, "c"), "/etc/..": "/", "~root/x": "/root/x"} {
		c.send(kindExtended, request(7, "expand-path@openssh.com", path))
		kind, r := c.receive()
		require.Equal(t, byte(kindName), kind, path)
		assert.Equal(t, uint32(7), r.number())
		assert.Equal(t, uint32(1), r.number())
		assert.Equal(t, want, r.text(), path)
	}
	status := func(body []byte) uint32 {
		c.send(kindExtended, body)
		kind, r := c.receive()
		require.Equal(t, byte(kindStatus), kind)
		r.number()
		return r.number()
	}
	assert.Equal(t, uint32(statusNoFile), status(request(1, "expand-path@openssh.com", "~nobody-of-that-name/x")))
	assert.Equal(t, uint32(statusNoFile), status(request(2, "fsync@openssh.com", "no handle")))
	attributes := func(flags uint32, numbers ...uint32) []byte {
		b := binary.BigEndian.AppendUint32(request(3, "lsetstat@openssh.com", "link"), flags)
		for _, n := range numbers {
			b = binary.BigEndian.AppendUint32(b, n)
		}
		return b
	}
	assert.Equal(t, uint32(statusOK), status(attributes(hasTimes|hasMode, 0o600, 1000, 2000)))
	info, err := os.Lstat(filepath.Join(home, "link"))
	require.NoError(t, err)
	assert.Equal(t, int64(2000), info.ModTime().Unix())
	assert.Equal(t, uint32(statusBadMessage), status(attributes(hasSize, 0, 0)))
	assert.Equal(t, uint32(statusBadMessage), status(attributes(hasOwner, 1)), "half of it is missing")
	c.send(kindExtended, request(4, "limits@openssh.com"))
	kind, r := c.receive()
	require.Equal(t, byte(kindExtendedReply), kind)
	assert.Len(t, r.rest, 4+4*8)

	// What could not be opened is forgotten.
	for i := range uint32(50) {
		c.send(kindOpen, append(request(100+i, "none"), 0, 0, 0, 1, 0, 0, 0, 0))
		kind, _ := c.receive()
		require.Equal(t, byte(kindStatus), kind)
	}
	server.mu.Lock()
	defer server.mu.Unlock()
	assert.Empty(t, server.opening)
	assert.Empty(t, server.open)
}

// Packets that make no sense end nothing but themselves or the session.
func TestPacketsWithoutSense(t *testing.T) {
	for _, body := range [][]byte{nil, {0}, request(1), request(1, ""), append(request(1), 0xff, 0xff, 0xff, 0xff)} {
		for _, kind := range []byte{kindOpen, kindClose, kindRmdir, kindRename, kindSymlink, kindExtended} {
			s := &Server{Home: t.TempDir(), out: io.Discard, opening: map[uint32]string{}, open: map[string]string{}}
			assert.NotPanics(t, func() { s.answer(kind, body) })
		}
	}
}

// failing takes so many bytes and breaks.
type failing struct{ left int }

func (f *failing) Write(b []byte) (int, error) {
	if f.left -= len(b); f.left < 0 {
		return 0, errors.New("the line is cut")
	}
	return len(b), nil
}

// A client that goes in the midst of a packet holds nobody up.
func TestALineThatIsCutInAPacket(t *testing.T) {
	s := &Server{out: &failing{left: 10}, opening: map[uint32]string{}, open: map[string]string{}}
	a := &answers{Server: s}
	_, err := a.Write([]byte{0, 0, 0, 100, 103, 0, 0, 0, 1})
	require.NoError(t, err)
	_, err = a.Write(make([]byte, 50))
	require.Error(t, err)
	done := make(chan struct{})
	go func() {
		s.status(1, nil)
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		t.Fatal("who answers waits for the rest of a packet that never comes")
	}
	_, err = a.Write([]byte{0, 0, 0, 1, 101})
	assert.Error(t, err)
}

// What takes something away takes nothing else away.
func TestNothingIsReplacedOrRemovedByMistake(t *testing.T) {
	home, _, conn := serve(t)
	c, err := sftp.NewClientPipe(conn, conn)
	require.NoError(t, err)
	for _, name := range []string{"one", "two"} {
		require.NoError(t, os.WriteFile(filepath.Join(home, name), []byte(name), 0o600))
	}
	var told *sftp.StatusError
	require.ErrorAs(t, c.Rename("one", "two"), &told)
	assert.Equal(t, uint32(statusFailure), told.Code)
	assert.ErrorIs(t, c.RemoveDirectory("two"), os.ErrNotExist, "it is no folder")
	assert.ErrorIs(t, c.Rename("none", "three"), os.ErrNotExist)
	b, err := os.ReadFile(filepath.Join(home, "two"))
	require.NoError(t, err)
	assert.Equal(t, "two", string(b))
	require.NoError(t, c.PosixRename("one", "two"))
	require.NoError(t, c.Mkdir("hold"))
	require.NoError(t, c.Rename("hold", "deck"))
	require.NoError(t, c.RemoveDirectory("deck"))
	_, err = c.Stat("none")
	assert.ErrorIs(t, err, os.ErrNotExist)
}
