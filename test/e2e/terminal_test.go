package e2e

import (
	"encoding/json"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/require"

	"domicile/internal/baseimage"
)

// openedTerminal is a terminal as the console opens it: over a WebSocket.
type openedTerminal struct {
	t      *testing.T
	socket *websocket.Conn
	seen   string
	exit   int
}

func openTerminal(t *testing.T, workspace, name string) *openedTerminal {
	t.Helper()
	address := "ws" + strings.TrimPrefix(world.Service.URL, "http") + "/api/v1/workspaces/" + workspace + "/terminal?terminal=" + name
	socket, _, err := websocket.DefaultDialer.DialContext(t.Context(), address, http.Header{"Authorization": {"Bearer " + skipper.token}})
	require.NoError(t, err)
	t.Cleanup(func() { socket.Close() })
	return &openedTerminal{t: t, socket: socket, exit: -1}
}

func (o *openedTerminal) typed(s string) {
	o.t.Helper()
	require.NoError(o.t, o.socket.WriteMessage(websocket.BinaryMessage, []byte(s)))
}

// expect reads until the text was printed.
func (o *openedTerminal) expect(text string) {
	o.t.Helper()
	for !strings.Contains(o.seen, text) {
		require.NoError(o.t, o.read(), "waiting for %q; seen so far:\n%s", text, o.seen)
	}
}

func (o *openedTerminal) expectExit(status int) {
	o.t.Helper()
	for o.exit < 0 {
		require.NoError(o.t, o.read(), "waiting for the end; seen so far:\n%s", o.seen)
	}
	require.Equal(o.t, status, o.exit)
}

func (o *openedTerminal) read() error {
	if err := o.socket.SetReadDeadline(time.Now().Add(20 * time.Second)); err != nil {
		return err
	}
	kind, b, err := o.socket.ReadMessage()
	if err != nil {
		return err
	}
	if kind == websocket.BinaryMessage {
		o.seen += string(b)
		return nil
	}
	var end struct{ Exit int }
	err = json.Unmarshal(b, &end)
	o.exit = end.Exit
	return err
}

func dockerExec(t *testing.T, container string, command ...string) (string, error) {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "docker", append([]string{"-H", world.EngineAt, "exec", container}, command...)...).CombinedOutput()
	return string(out), err
}

// engineSays calls the engine's own client.
func engineSays(t testing.TB, args ...string) (string, error) {
	t.Helper()
	return dockerAt(t, world.EngineAt, args...)
}

// dockerAt calls the client of an engine.
func dockerAt(t testing.TB, engine string, args ...string) (string, error) {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "docker", append([]string{"-H", engine}, args...)...).CombinedOutput()
	return strings.TrimSpace(string(out)), err
}

// everything lists containers, volumes and networks of all workspaces.
func everything(t *testing.T) []string {
	t.Helper()
	out, err := engineSays(t, "network", "ls", "-q", "--filter", "label=domicile.workspace")
	require.NoError(t, err)
	return append(objects(t), strings.Fields(out)...)
}

// pushAs gives the base image another name in the registry.
func pushAs(t *testing.T, name string) {
	t.Helper()
	require.NoError(t, baseimage.Push(t.Context(), world.Image, world.RegistryAt+"/"+name))
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
