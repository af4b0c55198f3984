package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/scenario"
)

// The service does all its work as a user of its own, who has the engine's socket by its
// group and nothing else of the host.
func TestTheServiceWithoutRoot(t *testing.T) {
	const user = 64321
	db, err := pgx.Connect(t.Context(), world.Postgres.URL)
	require.NoError(t, err)
	_, err = db.Exec(t.Context(), "CREATE DATABASE unprivileged")
	require.NoError(t, err)
	require.NoError(t, db.Close(t.Context()))
	data := filepath.Join(world.Folder(), "unprivileged")
	require.NoError(t, os.Mkdir(data, 0o700))
	require.NoError(t, os.Chown(data, user, user))
	s, err := world.StartAs(t.Context(), user, strings.Replace(world.Postgres.URL, "/postgres?", "/unprivileged?", 1), data)
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	c, err := client.Open(s.URL, "")
	require.NoError(t, err)
	first, err := client.Answer[client.Token](c.MakeFirstAccount(t.Context(), client.FirstAccount{Code: scenario.SetupCode, Name: "mate", Password: "all-hands-on-deck"}))
	require.NoError(t, err)
	mate := &person{name: "mate", token: first.Token, login: filepath.Join(t.TempDir(), "mate.json")}
	mate.api, err = client.Open(s.URL, first.Token)
	require.NoError(t, err)
	out, err := mate.command(t.Context(), first.Token+"\n", "login", "-server", s.URL).output()
	require.NoError(t, err, out)

	definition := `{"dockerComposeFile": "compose.yaml", "service": "work", "remoteUser": "crew", "customizations": {"domicile": {"engine": true}}}`
	source := publish(t, "modest", definition, map[string]string{composeFile: "services:\n  work:\n    build: .\n    command: sleep infinity\n", ".devcontainer/Dockerfile": "FROM BASE\nRUN echo built > /built\n"})
	a := mate.domicile(t, "provision", source, "-name", "modest")
	require.Equal(t, 0, a.status, a.out+a.err)
	t.Cleanup(func() { mate.remove(t, "modest") })
	inside := mate.domicile(t, "run", "modest", "--", "sh", "-c", "id -un; cat /built; python3 -c \"import socket; s=socket.socket(socket.AF_UNIX); s.connect('/run/domicile-door/engine.sock'); s.send(b'GET /_ping HTTP/1.0\\r\\n\\r\\n'); print(s.recv(15).decode())\"")
	assert.Equal(t, "crew\nbuilt\nHTTP/1.0 200 OK", strings.TrimSpace(inside.out), inside.err)
	assert.Equal(t, 0, mate.domicile(t, "rebuild", "modest").status)
	assert.Equal(t, 0, mate.domicile(t, "snapshots", "keep", "modest").status)
	assert.Equal(t, 0, mate.domicile(t, "stop", "modest").status)
	assert.Equal(t, 0, mate.domicile(t, "start", "modest").status)
	assert.Contains(t, mate.domicile(t, "sites").out, "root of a workspace is nobody on its host")

	r, err := http.Get(s.URL + "/readyz")
	require.NoError(t, err)
	defer r.Body.Close()
	said, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(said), "ok\n"))
	if strings.Contains(string(said), "warning") { // what it cannot do without root is told
		assert.Contains(t, string(said), "git works in the network of this host")
		assert.NotContains(t, string(said), "untrusted text is read in the service's own process")
	}
	refused := mate.domicile(t, "plan", "http://127.0.0.2:9/x.git")
	assert.Contains(t, refused.err, "which the service asks for nobody")
}
