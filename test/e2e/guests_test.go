package e2e

import (
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// A workspace is its owner's. Who is invited gets in for a time, to look or to type, to nothing else of
// the owner's, and is out when that is over.
func TestGuests(t *testing.T) {
	t.Parallel()
	source := publish(t, "galley", `{"image": "BASE", "remoteUser": "crew", "postStartCommand": "echo soup > ~/menu"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "galley").status)
	ivy := anotherPerson(t, "ivy.b")
	const name = "galley~skipper"
	said := func(status int, text string, args ...string) {
		t.Helper()
		a := ivy.domicile(t, args...)
		assert.Equal(t, status, a.status, "%v: %s", args, a.err)
		assert.Contains(t, a.out+a.err, text, args)
	}
	enters := func(line string) answer { return ivy.ssh(t, "", name+"@127.0.0.1", line) }

	t.Run("who is not invited", func(t *testing.T) {
		said(1, "You are not invited into galley of skipper, or no more", "run", name, "--", "id")
		said(1, "You are not invited into galley of skipper", "shell", name, "-look")
		assert.Contains(t, enters("id").err, "You are not invited into galley of skipper")
		said(1, `"~skipper" is no workspace of somebody else`, "shell", "~skipper", "-look")
		said(0, "You are invited into no workspace of others.", "guests")
		for _, c := range [][2]string{
			{"invite galley skipper", "is your own"}, {"invite galley nobody-here", `There is no account "nobody-here"`}, {"invite galleon ivy.b", "no workspace"},
			{"invite galley ivy.b -may rule", `cannot be invited to "rule"`}, {"invite galley ivy.b -hours 0", "cannot hold for 0 hours"}, {"invite galley ivy.b -hours 9999", "cannot hold for 9999 hours"},
			{"guests galley -end ivy.b", "ivy.b is not invited into galley"}, {"guests -leave galley~ivy.b", "You are not invited into"},
		} {
			a := skipper.domicile(t, strings.Fields(c[0])...)
			assert.Equal(t, 1, a.status, c[0])
			assert.Contains(t, a.err, c[1], c[0])
		}
		a := ivy.domicile(t, "invite", name, "ivy.b", "-may", "type")
		assert.Contains(t, a.err, "This is for the owner of a workspace", "nobody invites into what is another's")
	})

	t.Run("to look", func(t *testing.T) {
		a := skipper.domicile(t, "invite", "galley", "ivy.b")
		require.Equal(t, 0, a.status, a.err)
		assert.Contains(t, a.out, "ivy.b may look in galley until ")
		said(0, "galley~skipper  ready  look", "guests")
		said(0, "galley~skipper  to look, until ", "list")
		said(1, "no terminal is open", "shell", name, "-look")

		own := openTerminal(t, "galley", "stove")
		own.typed("echo the soup is ho''t\n")
		own.expect("the soup is hot")
		said(0, "stove", "shell", name, "-list")
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		looks := ivy.command(ctx, "exit 9\n", "shell", name, "-look") // what is typed goes nowhere
		shown, err := looks.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, looks.Start())
		var seen strings.Builder
		for b := make([]byte, 1024); err == nil && !strings.Contains(seen.String(), "the soup is hot"); {
			var n int
			n, err = shown.Read(b)
			seen.Write(b[:n])
		}
		own.typed("echo and sal''ty; exit 4\n")
		own.expectExit(4)
		_, err = io.Copy(&seen, shown)
		assert.NoError(t, err)
		_ = looks.Wait()
		assert.Equal(t, 4, looks.ProcessState.ExitCode(), "the status of what was looked at")
		assert.Contains(t, seen.String(), "the soup is hot")
		assert.Contains(t, seen.String(), "and salty")

		// Whatever the console's page could send, nothing is typed and no size is set.
		own = openTerminal(t, "galley", "oven")
		own.typed("stty rows 11 cols 44; echo bre''ad\n")
		own.expect("bread")
		address := "ws" + strings.TrimPrefix(world.Service.URL, "http") + "/api/v1/workspaces/" + name + "/terminal?terminal=oven"
		_, refused, err := websocket.DefaultDialer.DialContext(t.Context(), address, http.Header{"Authorization": {"Bearer " + ivy.token}})
		require.Error(t, err)
		assert.Equal(t, http.StatusForbidden, refused.StatusCode)
		socket, _, err := websocket.DefaultDialer.DialContext(t.Context(), address+"&look=true&columns=9&rows=9", http.Header{"Authorization": {"Bearer " + ivy.token}})
		require.NoError(t, err)
		defer socket.Close()
		require.NoError(t, socket.WriteMessage(websocket.BinaryMessage, []byte("echo poi''son\n")))
		require.NoError(t, socket.WriteMessage(websocket.TextMessage, []byte(`{"columns": 9, "rows": 9}`)))
		own.typed("sleep 0.3; stty size; echo do''ne\n")
		own.expect("done")
		assert.Contains(t, own.seen, "11 44")
		assert.NotContains(t, own.seen, "poi")

		said(1, "You are invited to look at galley of skipper, not to type", "run", name, "--", "id")
		assert.Contains(t, enters("id").err, "You are invited to look at galley of skipper, not to type: domicile shell galley~skipper")
		said(1, "not to type", "forward", name, "8080")
	})

	t.Run("to type", func(t *testing.T) {
		a := skipper.domicile(t, "invite", "galley", "ivy.b", "-may", "type", "-hours", "2")
		require.Equal(t, 0, a.status, a.err)
		assert.Contains(t, a.out, "Who types there can do what you can do there")
		a = enters("id -un; cat ~/menu; pwd")
		assert.Equal(t, "crew\nsoup\n/workspaces/galley\n", a.out, a.err)
		assert.Equal(t, "soup\n", ivy.domicile(t, "run", name, "--", "cat", "/home/crew/menu").out)
		assert.Equal(t, 3, ivy.ssh(t, "", "-o", "SetEnv=X=1", name+"@127.0.0.1", "exit 3").status)
		put := exec.CommandContext(t.Context(), "sftp", append(ivy.sshOptions("-P"), "-b", "-", name+"@127.0.0.1")...)
		put.Stdin = strings.NewReader("put " + ivy.key + ".pub /home/crew/note\n")
		a = finish(t, put)
		require.Equal(t, 0, a.status, a.err)
		assert.Contains(t, skipper.inside(t, "galley", "cat ~/note"), "ivy.b")
		hop := append([]string{"-o", "ProxyCommand=ssh " + strings.Join(ivy.sshOptions("-p"), " ") + " -W %h:%p domicile@127.0.0.1"}, ivy.sshOptions("-p")[:12]...)
		assert.Equal(t, "crew\n", finish(t, exec.CommandContext(t.Context(), "ssh", append(hop, name+".domicile", "id -un")...)).out)
		pipe := append([]string{"-o", "ProxyCommand=" + filepath.Join(programs, "domicile") + " pipe -login " + ivy.login + " %n"}, ivy.sshOptions("-p")[:12]...)
		assert.Equal(t, "crew\n", finish(t, exec.CommandContext(t.Context(), "ssh", append(pipe, name+".domicile", "id -un")...)).out)

		// What is the owner's alone stays that.
		a = ivy.ssh(t, "", "-o", "ExitOnForwardFailure=yes", "-R", "9191:localhost:1", name+"@127.0.0.1", "true")
		assert.NotEqual(t, 0, a.status)
		assert.Contains(t, ivy.ssh(t, "", name+"+root@127.0.0.1", "id").err, "comes in as the workspace's own person")
		said(1, "comes in as the workspace's own person", "run", name+"+root", "--", "id")
		for _, args := range []string{"show", "stop", "start", "log", "follow", "address", "web", "services", "checks", "tasks", "rebuild -yes", "remove -yes", "move -site quay", "snapshots keep", "helper"} {
			words := strings.Fields(args)
			a := ivy.domicile(t, append([]string{words[0], name}, words[1:]...)...)
			assert.NotEqual(t, 0, a.status, args)
		}
		for _, path := range []string{"", "/ports", "/web", "/ways", "/guests", "/log", "/runs", "/services", "/helpers", "/screen"} {
			status, _ := ivy.request(t, http.MethodGet, "/api/v1/workspaces/"+name+path, "")
			assert.GreaterOrEqual(t, status, 400, path)
			status, _ = ivy.request(t, http.MethodGet, "/api/v1/workspaces/galley"+path, "")
			assert.GreaterOrEqual(t, status, 400, "without the owner it is a name of one's own: %s", path)
		}
		assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, "galley").State)
		a = skipper.domicile(t, "guests", "galley")
		assert.Regexp(t, `ivy\.b +type +\d{4}-.* just now`, a.out)
		assert.Contains(t, a.out, "ivy.b came in from 127.0.0.1:")
		assert.Contains(t, a.out, "skipper invited ivy.b to type until ")
	})

	// ends is a session of the guest that lasts until something ends it.
	ends := func(t *testing.T, what string, end func()) {
		t.Helper()
		c := exec.CommandContext(t.Context(), "ssh", append(ivy.sshOptions("-p"), name+"@127.0.0.1", "echo in; sleep 600")...)
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		b := make([]byte, 3)
		_, err = out.Read(b)
		require.NoError(t, err)
		end()
		over := make(chan error, 1)
		go func() { over <- c.Wait() }()
		select {
		case err := <-over:
			assert.Error(t, err, what)
		case <-time.After(time.Minute):
			t.Errorf("%s: the guest is still in", what)
			_ = c.Process.Signal(os.Kill)
		}
		assert.Equal(t, 255, enters("id").status, what)
	}
	t.Run("it is over", func(t *testing.T) {
		ends(t, "the owner ends it", func() {
			assert.Equal(t, 0, skipper.domicile(t, "guests", "galley", "-end", "ivy.b").status)
		})
		invite := func(may string) {
			t.Helper()
			assert.Equal(t, 0, skipper.domicile(t, "invite", "galley", "ivy.b", "-may", may).status)
		}
		invite("type")
		ends(t, "who typed may only look", func() { invite("look") })
		invite("type")
		ends(t, "the guest gives it back", func() { said(0, "no guest of galley~skipper any more", "guests", "-leave", name) })
		invite("type")
		ends(t, "its time is over", func() {
			db, err := pgx.Connect(t.Context(), world.Postgres.URL)
			require.NoError(t, err)
			defer db.Close(context.WithoutCancel(t.Context()))
			_, err = db.Exec(t.Context(), "UPDATE guests SET until = now() WHERE workspace = $1", skipper.workspace(t, "galley").Id)
			require.NoError(t, err)
		})
	})
	t.Run("with the workspace", func(t *testing.T) {
		require.Equal(t, 0, skipper.domicile(t, "invite", "galley", "ivy.b", "-may", "type").status)
		require.Equal(t, 0, skipper.domicile(t, "stop", "galley").status)
		assert.Contains(t, enters("id").err, "The workspace galley of skipper is stopped")
		said(1, "The workspace galley of skipper is stopped", "run", name, "--", "id")
		skipper.remove(t, "galley")
		said(0, "You are invited into no workspace of others.", "guests")
	})
}
