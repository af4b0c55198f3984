package agent_test

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent"
	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/connection"
	"domicile/internal/handed"
)

// One agent serves all tests of this file: it reaps the process's children, and only one
// may do so.
var (
	once   sync.Once
	socket string
	server *agent.Server
	// service is what the agent knows the service by; strange is another key.
	service, strange = newKey(), newKey()
)

func newKey() ssh.Signer {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		panic(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		panic(err)
	}
	return signer
}

func public(s ssh.Signer) string { return string(ssh.MarshalAuthorizedKey(s.PublicKey())) }

// room is what the agent has handed over.
var room handed.Room

// connect opens a connection to an agent that was told to run programs as root in a folder.
func connect(t *testing.T) *agentlink.Link {
	t.Helper()
	once.Do(func() {
		folder, err := os.MkdirTemp("", "agent-")
		require.NoError(t, err)
		socket = filepath.Join(folder, "agent.sock")
		listener, err := agent.Listen(socket)
		require.NoError(t, err)
		server, err = agent.New("test", public(service), slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		go func() { _ = server.Serve(context.Background(), listener) }()
	})
	stream, err := net.Dial("unix", socket)
	require.NoError(t, err)
	link, err := agentlink.Open(t.Context(), connection.Private(stream), service)
	require.NoError(t, err)
	t.Cleanup(func() { link.Close() })
	link.Place = func() *handed.Place { return room.Enter(1) }
	link.Again = func(context.Context) (net.Conn, error) {
		stream, err := net.Dial("unix", socket)
		return connection.Private(stream), err
	}
	return link
}

// overSSH is a connection as it is where the stream is not private, and from services of earlier
// versions.
func overSSH(t *testing.T) *ssh.Client {
	t.Helper()
	configured(t).Quiet()
	stream, err := net.Dial("unix", socket)
	require.NoError(t, err)
	conn, channels, requests, err := ssh.NewClientConn(stream, "", &ssh.ClientConfig{Auth: []ssh.AuthMethod{ssh.PublicKeys(service)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return ssh.NewClient(conn, channels, requests)
}

func configured(t *testing.T) *agentlink.Link {
	t.Helper()
	link := connect(t)
	flood := "flood"
	answer, err := link.Configure(t.Context(), wire.Session{User: "root", Folder: t.TempDir(), Probe: "none", Workspace: "deck", Env: map[string]*string{"TIDE": &flood, "HOSTNAME": nil}})
	require.NoError(t, err)
	assert.Equal(t, "root", answer.User)
	return link
}

func TestTheSocketIsForRootAlone(t *testing.T) {
	connect(t)
	for _, path := range []string{socket, filepath.Dir(socket)} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, path)
	}
}

func TestAUserThatIsNotThereIsRefused(t *testing.T) {
	_, err := connect(t).Configure(t.Context(), wire.Session{User: "stowaway"})
	assert.ErrorContains(t, err, `no user "stowaway"`)
}

func TestProbing(t *testing.T) {
	link := connect(t)
	home := t.TempDir()
	t.Setenv("ENV", "") // sh reads it
	require.NoError(t, os.WriteFile(filepath.Join(home, "rc"), []byte("printf WELCOME; export FROM_RC=$((40+2)) MULTI='one\ntwo'\n"), 0o644))
	rc := filepath.Join(home, "rc")
	answer, err := link.Configure(t.Context(), wire.Session{User: "54321", Folder: "/", Probe: "loginShell", Env: map[string]*string{"ENV": &rc}})
	require.NoError(t, err)
	assert.Empty(t, answer.Warning)
	assert.Equal(t, "/bin/sh", answer.Shell, "who has no shell gets one")

	// A start-up file prints what it likes, with a line end or without.
	require.NoError(t, os.Chmod(home, 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(home), 0o755))
	t.Setenv("ENV", rc)
	_, err = link.Configure(t.Context(), wire.Session{User: "54321", Folder: "/", Probe: "interactiveShell"})
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, link.Task(t.Context(), wire.TaskRequest{Key: "what is probed", Shell: `printf '%s|%s|' "$FROM_RC" "$MULTI"; env | grep -c WELCOME || true`}, &out), out.String())
	assert.Equal(t, "42|one\ntwo|0\n", out.String())
}

func TestTasks(t *testing.T) {
	link := configured(t)
	run := func(q wire.TaskRequest) (string, error) {
		var out bytes.Buffer
		err := link.Task(t.Context(), q, &out)
		return out.String(), err
	}
	out, err := run(wire.TaskRequest{Key: "env", Shell: "echo $TIDE $DOMICILE_WORKSPACE ${HOSTNAME-unset}; echo aside >&2"})
	require.NoError(t, err)
	assert.Equal(t, "flood deck unset\naside\n", out, "both outputs in one, in order")
	out, err = run(wire.TaskRequest{Key: "args", Args: []string{"printf", "%s|", "a b", "$TIDE"}})
	require.NoError(t, err)
	assert.Equal(t, "a b|$TIDE|", out, "without a shell")

	var exit *agentlink.ExitError
	_, err = run(wire.TaskRequest{Key: "bad", Shell: "exit 7"})
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, 7, exit.Status)
	_, err = run(wire.TaskRequest{Key: "signal", Shell: "kill -TERM $$"})
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, "TERM", exit.Signal)
	_, err = run(wire.TaskRequest{Key: "none"})
	assert.ErrorContains(t, err, "a task needs a command")
	_, err = run(wire.TaskRequest{Key: "missing", Args: []string{"/no/such/program"}})
	assert.ErrorContains(t, err, "no such file")
}

// What comes behind an archive's end, and late, is taken, too: who sends it is not told that nobody listens.
func TestAnArchiveThatGoesOnBehindItsEnd(t *testing.T) {
	link := configured(t).Quiet()
	target := filepath.Join(t.TempDir(), "deck")
	var archive bytes.Buffer
	w := tar.NewWriter(&archive)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "chart", Typeflag: tar.TypeReg, Mode: 0o644}))
	require.NoError(t, w.Close())
	source, sends := io.Pipe()
	go func() {
		_, _ = archive.WriteTo(sends)
		_, err := sends.Write(make([]byte, 4<<20)) // more than waits on the way
		_ = sends.CloseWithError(err)
	}()
	require.NoError(t, link.Put(t.Context(), target, source))
	assert.FileExists(t, filepath.Join(target, "chart"))
}

func TestATaskIsComeBackTo(t *testing.T) {
	link := configured(t)
	file := filepath.Join(t.TempDir(), "count")
	goOn := filepath.Join(t.TempDir(), "go-on")
	q := wire.TaskRequest{Key: "again", Shell: "echo begun; echo x >> " + file + "; while [ ! -e " + goOn + " ]; do sleep 0.02; done; echo over; exit 3"}
	r, w := io.Pipe()
	first := make(chan error, 1)
	go func() { first <- link.Task(t.Context(), q, w) }()
	b := make([]byte, 6)
	_, err := io.ReadFull(r, b)
	require.NoError(t, err)
	assert.Equal(t, "begun\n", string(b))
	link.Close() // the service dies
	require.Error(t, <-first)
	second := configured(t)
	require.NoError(t, os.WriteFile(goOn, nil, 0o600))
	for range 2 { // also after its end
		var out bytes.Buffer
		var exit *agentlink.ExitError
		require.ErrorAs(t, second.Task(t.Context(), q, &out), &exit)
		assert.Equal(t, 3, exit.Status)
		assert.Equal(t, "begun\nover\n", out.String())
	}
	counted, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "x\n", string(counted), "it ran once")
}

func TestATaskThatLeavesADaemonBehindEnds(t *testing.T) {
	var out bytes.Buffer
	begun := time.Now()
	require.NoError(t, configured(t).Task(t.Context(), wire.TaskRequest{Key: "daemon", Shell: "sleep 30 & echo started"}, &out))
	assert.Equal(t, "started\n", out.String())
	assert.Less(t, time.Since(begun), 20*time.Second, "it does not wait for the daemon")
}

func session(t *testing.T, client *ssh.Client) *ssh.Session {
	t.Helper()
	s, err := client.NewSession()
	require.NoError(t, err)
	return s
}

func TestASessionsOutputIsWholeWhenItsStatusComes(t *testing.T) {
	for range 20 {
		s := session(t, overSSH(t))
		var out, errs bytes.Buffer
		s.Stdout, s.Stderr = &out, &errs
		var exit *ssh.ExitError
		require.ErrorAs(t, s.Run("echo out; echo aside >&2; exit 5"), &exit)
		assert.Equal(t, 5, exit.ExitStatus())
		assert.Equal(t, "out\n", out.String())
		assert.Equal(t, "aside\n", errs.String())
	}
}

func TestATerminalGoesOnWithoutItsConnection(t *testing.T) {
	first := overSSH(t)
	open := func(client *ssh.Client) (*ssh.Session, io.Writer, io.Reader) {
		s := session(t, client)
		require.NoError(t, s.Setenv(wire.TerminalName, "work"))
		require.NoError(t, s.RequestPty("xterm", 24, 80, ssh.TerminalModes{}))
		in, err := s.StdinPipe()
		require.NoError(t, err)
		out, err := s.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, s.Shell())
		return s, in, out
	}
	expect := func(out io.Reader, text string) {
		t.Helper()
		seen := ""
		for b := make([]byte, 1024); !strings.Contains(seen, text); {
			n, err := out.Read(b)
			seen += string(b[:n])
			require.NoError(t, err, seen)
		}
	}
	_, in, out := open(first)
	_, err := io.WriteString(in, "echo tide-$((20+22))\n")
	require.NoError(t, err)
	expect(out, "tide-42")
	first.Close()
	s, in, out := open(overSSH(t))
	expect(out, "tide-42")
	watcher := configured(t).Quiet()
	list, err := watcher.Terminals(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "work", list[0].Name)
	_, err = io.WriteString(in, "exit 4\n")
	require.NoError(t, err)
	var exit *ssh.ExitError
	require.ErrorAs(t, s.Wait(), &exit)
	assert.Equal(t, 4, exit.ExitStatus())
	require.Eventually(t, func() bool {
		list, err := watcher.Terminals(t.Context())
		return err == nil && len(list) == 0
	}, 5*time.Second, 10*time.Millisecond)
}

// A terminal holds a few kilobytes of what is typed: the rest waits until the program reads.
func TestAPasteThatIsLargerThanATerminal(t *testing.T) {
	s := session(t, overSSH(t))
	require.NoError(t, s.RequestPty("xterm", 24, 80, ssh.TerminalModes{}))
	in, err := s.StdinPipe()
	require.NoError(t, err)
	out, err := s.StdoutPipe()
	require.NoError(t, err)
	pasted := bytes.Repeat([]byte("ebb and flow\n"), 40_000)
	require.NoError(t, s.Start(fmt.Sprintf("stty raw -echo; echo ready; head -c 1 >/dev/null; sleep 0.3; head -c %d | sha256sum", len(pasted)-1)))
	said := bufio.NewReader(out)
	line, err := said.ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "ready\n", line)
	_, err = in.Write(pasted)
	require.NoError(t, err)
	rest, err := io.ReadAll(said)
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%x  -\n", sha256.Sum256(pasted[1:])), string(rest))
	require.NoError(t, s.Wait())
}

// All that a program says before it ends arrives, also where it leaves something behind.
func TestATerminalsOutputIsWholeWhenItsProgramEnds(t *testing.T) {
	for range 5 {
		s := session(t, overSSH(t))
		require.NoError(t, s.RequestPty("xterm", 24, 80, ssh.TerminalModes{}))
		var exit *ssh.ExitError
		out, err := s.Output("stty -onlcr; seq 20000; setsid -f sleep 3; exit 6")
		require.ErrorAs(t, err, &exit)
		assert.Equal(t, 6, exit.ExitStatus())
		assert.Len(t, out, 108894)
		assert.True(t, bytes.HasSuffix(out, []byte("\n19999\n20000\n")))
	}
}

func TestForwardsDialFromInside(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			b, _ := io.ReadAll(c) // until the other side has said all
			_, _ = c.Write(append([]byte("heard "), b...))
			c.Close()
		}
	}()
	link := configured(t).Quiet()
	conn, err := link.DialContext(t.Context(), "tcp", l.Addr().String())
	require.NoError(t, err)
	_, err = io.WriteString(conn, "hello")
	require.NoError(t, err)
	require.NoError(t, conn.(interface{ CloseWrite() error }).CloseWrite())
	b, err := io.ReadAll(conn)
	require.NoError(t, err)
	assert.Equal(t, "heard hello", string(b))
	_, err = link.DialContext(t.Context(), "tcp", "127.0.0.1:9")
	var refused *ssh.OpenChannelError
	require.True(t, errors.As(err, &refused), "%v", err)
	assert.Contains(t, refused.Message, "nothing answers at 127.0.0.1:9 inside the workspace")
}
