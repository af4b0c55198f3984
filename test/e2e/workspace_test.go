package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

func TestAWorkspaceFromAddressToRemoval(t *testing.T) {
	a := skipper.provision(t, repository("timetable"), "timetable")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.out, "timetable is ready.")
	assert.Contains(t, a.out, "timetable@127.0.0.1")
	assert.Contains(t, a.out, "domicile forward timetable 8080")
	order := []string{"Fetch the source", "Read the definition", "Plan", "Pull the image", "Make the volume", "Make the container", "Start the agent",
		"Put the source in", "Run onCreateCommand", "Run updateContentCommand", "Open the ways in", "Run postCreateCommand", "Run postStartCommand"}
	at := -1
	for _, step := range order {
		next := strings.Index(a.err, step)
		assert.Greater(t, next, at, "%s comes in its turn in:\n%s", step, a.err)
		at = next
	}

	t.Run("list and show", func(t *testing.T) {
		var list []client.Workspace
		require.NoError(t, json.Unmarshal([]byte(skipper.domicile(t, "list", "-json").out), &list))
		require.Len(t, list, 1)
		assert.Equal(t, client.WorkspaceStateReady, list[0].State)
		assert.Equal(t, "crew", *list[0].User)
		assert.Equal(t, "/workspaces/timetable", *list[0].Folder)
		assert.Equal(t, []client.Port{{Port: "8080", From: new("definition"), Label: new("Sailings"), Protocol: new("http"), OnAutoForward: new(client.Notify)}}, list[0].Ports)
		assert.Contains(t, skipper.domicile(t, "show", "timetable").out, "timetable is ready")
	})
	t.Run("log", func(t *testing.T) {
		log := skipper.domicile(t, "log", "timetable", "-step", "postCreateCommand").out
		assert.Contains(t, log, "tests: OK")
		assert.Contains(t, log, "sailings: 06:40  North Quay to Lamb Island, Eider")
		assert.NotContains(t, log, "Python 3", "that is another step's")
	})
	t.Run("run passes standard input, output and exit status on", func(t *testing.T) {
		r := finish(t, skipper.command(t.Context(), "tide", "run", "timetable", "--", "sh", "-c", `cat; echo " $1" >&2; exit 9`, "sh", "it's two  words").Cmd)
		assert.Equal(t, answer{"tide", " it's two  words\n", 9}, r)
	})
	t.Run("forward reaches what listens on loopback only", func(t *testing.T) {
		c := skipper.command(t.Context(), "", "forward", "timetable", "8080:0").Cmd
		out, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		var address string
		_, err = fmt.Fscanf(out, "8080:0 in timetable is at %s", &address)
		require.NoError(t, err)
		address = strings.TrimSuffix(address, ".")
		var body struct {
			Line     string
			Sailings []any
		}
		eventually(t, 10*time.Second, "the timetable answers", func() bool {
			r, err := http.Get("http://" + address + "/sailings?day=2026-07-01")
			if err != nil {
				return false
			}
			defer r.Body.Close()
			return json.NewDecoder(r.Body).Decode(&body) == nil
		})
		assert.Equal(t, "skerry", body.Line)
		assert.Len(t, body.Sailings, 7)
	})
	t.Run("stop keeps the files, start runs postStartCommand again", func(t *testing.T) {
		require.Equal(t, 0, skipper.domicile(t, "run", "timetable", "--", "sh", "-c", "echo kept > note; echo also > ~/home-note").status)
		require.Equal(t, 0, skipper.domicile(t, "stop", "timetable").status)
		refused := skipper.ssh(t, "", "timetable@127.0.0.1", "true")
		assert.Equal(t, 255, refused.status)
		assert.Contains(t, refused.err, "domicile start timetable")
		assert.Contains(t, skipper.domicile(t, "run", "timetable", "--", "true").err, "start it: domicile start timetable")
		a := skipper.domicile(t, "start", "timetable")
		require.Equal(t, 0, a.status, a.err)
		assert.Contains(t, a.err, "the timetable answers on port 8080")
		assert.NotContains(t, a.err, "onCreateCommand")
		assert.Equal(t, "kept\nalso\n", skipper.domicile(t, "run", "timetable", "--", "sh", "-c", "cat note ~/home-note").out)
	})
	t.Run("remove leaves nothing", func(t *testing.T) {
		require.NotEmpty(t, objects(t))
		a := skipper.domicile(t, "remove", "timetable", "-yes")
		require.Equal(t, 0, a.status, a.err)
		assert.Empty(t, objects(t))
		assert.Contains(t, skipper.domicile(t, "show", "timetable").err, "You have no workspace")
	})
}

// objects lists the engine's containers and volumes that belong to workspaces.
func objects(t *testing.T) []string {
	t.Helper()
	var all []string
	for _, args := range [][]string{{"ps", "-aq", "--no-trunc", "--filter", "label=domicile.workspace"}, {"volume", "ls", "-q", "--filter", "label=domicile.workspace"}} {
		out, err := exec.CommandContext(t.Context(), "docker", append([]string{"-H", world.EngineAt}, args...)...).Output()
		require.NoError(t, err)
		all = append(all, strings.Fields(string(out))...)
	}
	return all
}

func TestAWorkspaceIsItsOwners(t *testing.T) {
	require.Equal(t, 0, skipper.provision(t, repository("timetable"), "mine").status)
	assert.Contains(t, finn.domicile(t, "show", "mine").err, "You have no workspace")
	for _, args := range [][]string{{"stop", "mine"}, {"remove", "mine", "-yes"}, {"log", "mine"}, {"run", "mine", "--", "true"}} {
		a := finn.domicile(t, args...)
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, `You have no workspace "mine"`, "%v", args)
	}
	run := skipper.workspace(t, "mine").Run
	for _, path := range []string{fmt.Sprintf("/api/v1/runs/%d", run.Id), fmt.Sprintf("/api/v1/runs/%d/log", run.Id), "/api/v1/workspaces/mine/terminal", "/api/v1/workspaces/mine/ssh"} {
		status, _ := finn.request(t, "GET", path, "")
		assert.Equal(t, http.StatusNotFound, status, path)
		status, code := (*person)(nil).request(t, "GET", path, "")
		assert.Equal(t, http.StatusUnauthorized, status, path)
		assert.Equal(t, "not-signed-in", code)
	}
	theirs, unknown := finn.ssh(t, "", "mine@127.0.0.1", "true"), finn.ssh(t, "", "nosuch@127.0.0.1", "true")
	assert.Equal(t, strings.ReplaceAll(unknown.err, "nosuch", "mine"), theirs.err, "another's workspace looks like none")
	status, _ := finn.request(t, "GET", "/api/v1/accounts", "")
	assert.Equal(t, http.StatusForbidden, status)
	// The same name is free for another account.
	require.Equal(t, 0, finn.provision(t, repository("timetable"), "mine").status)
	address := strings.TrimSpace(skipper.domicile(t, "run", "mine", "--", "hostname", "-I").out)
	reach := finn.domicile(t, "run", "mine", "--", "python3", "-c",
		"import socket,sys\ntry: socket.create_connection((sys.argv[1], 8080), 2); print('reached')\nexcept OSError as e: print('not reached:', e)", address)
	assert.Contains(t, reach.out, "not reached", "workspaces do not see each other's networks")
}
