package main

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/connection"
)

// The agent for arm64 works as that for this machine does: it runs in QEMU's emulation of such a
// processor, and so do the programs of it that it starts.
func TestTheAgentForArm64(t *testing.T) {
	folder := t.TempDir()
	program := filepath.Join(folder, "domicile-agent")
	build := exec.CommandContext(t.Context(), "go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "GOARCH=arm64", "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	service, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)

	socket := filepath.Join(folder, "agent.sock")
	var said bytes.Buffer
	serving := exec.CommandContext(t.Context(), "qemu-aarch64-static", program, "serve", "-socket", socket, "-version", "tide", "-service-key", string(ssh.MarshalAuthorizedKey(service.PublicKey())))
	serving.Stderr = &said
	serving.Cancel = func() error { return serving.Process.Signal(os.Interrupt) }
	require.NoError(t, serving.Start())
	t.Cleanup(func() {
		_ = serving.Process.Kill()
		_ = serving.Wait() // it was killed
		if t.Failed() {
			t.Log(said.String())
		}
	})
	var stream net.Conn
	require.Eventually(t, func() bool { stream, err = net.Dial("unix", socket); return err == nil }, 20*time.Second, 20*time.Millisecond, "it listens")
	link, err := agentlink.Open(t.Context(), connection.Private(stream), service)
	require.NoError(t, err)
	defer link.Close()
	hello, err := link.Hello(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "tide", hello.Version)
	answer, err := link.Configure(t.Context(), wire.Session{User: "root", Folder: folder, Probe: "none", Env: map[string]*string{"TIDE": new("flood")}})
	require.NoError(t, err)
	assert.Equal(t, 0, answer.UID)
	var text bytes.Buffer
	require.NoError(t, link.Task(t.Context(), wire.TaskRequest{Key: "one", Shell: "echo $TIDE; pwd; cat"}, &text))
	assert.Equal(t, "flood\n"+folder+"\n", text.String())
	assert.ErrorContains(t, link.Task(t.Context(), wire.TaskRequest{Key: "two", Shell: "exit 7"}, &text), "7")

	// A session with a terminal.
	session, err := link.Terminal(t.Context(), "", 80, 24)
	require.NoError(t, err)
	defer session.Close()
	_, err = session.Write([]byte("tty; stty size; echo ahoy > " + filepath.Join(folder, "note") + "; exit\n"))
	require.NoError(t, err)
	typed, err := io.ReadAll(session)
	require.NoError(t, err)
	require.NoError(t, session.Wait())
	assert.Contains(t, string(typed), "/dev/pts/")
	assert.Contains(t, string(typed), "24 80")
	b, err := os.ReadFile(filepath.Join(folder, "note"))
	require.NoError(t, err)
	assert.Equal(t, "ahoy\n", string(b))
}
