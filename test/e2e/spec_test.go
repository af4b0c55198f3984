package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the standard says, seen from inside.
func TestTheStandardFromInside(t *testing.T) {
	for name, c := range map[string]struct {
		definition string
		files      map[string]string
		line, want string // a line of a shell, and what it prints
		fails      string // why it cannot be made
	}{
		"nothing-mounted": {definition: `{"image": "BASE", "workspaceMount": "", "workspaceFolder": "/srv", "remoteUser": "crew"}`, line: "pwd; grep -c workspaces /proc/mounts || true", want: "/srv\n0"},
		"no-folder": {definition: `{"image": "BASE",
 "workspaceFolder": "/workspaces/none/of/these", "remoteUser": "crew"}`, fails: ".devcontainer/devcontainer.json:2: there is no folder /workspaces/none/of/these inside"},
		"a-folder-is-made":  {definition: `{"image": "BASE", "workspaceFolder": "/tmp/made", "remoteUser": "crew", "onCreateCommand": "cd /; mkdir -p /tmp/made"}`, line: "pwd", want: "/tmp/made"},
		"tmpfs":             {definition: `{"image": "BASE", "runArgs": ["--tmpfs=/spray:size=5m"], "remoteUser": "crew"}`, line: "df -k /spray | awk 'NR==2{print $2}'", want: "5120"},
		"run-as":            {definition: `{"image": "BASE", "runArgs": ["--user=crew"]}`, line: "id -un", want: "crew"},
		"container-user":    {definition: `{"image": "BASE", "containerUser": "crew"}`, line: "id -un", want: "crew"},
		"service-user":      {definition: `{"dockerComposeFile": "c.yaml", "service": "work", "workspaceFolder": "/src"}`, files: map[string]string{".devcontainer/c.yaml": "services: { work: { image: BASE, user: crew, init: true, command: sleep infinity, volumes: ['..:/src'] } }"}, line: "id -un", want: "crew"},
		"empty-commands":    {definition: `{"image": "BASE", "remoteUser": "crew", "postCreateCommand": "", "onCreateCommand": [], "postStartCommand": {"a": ""}}`, line: "echo made", want: "made"},
		"other-letters":     {definition: `{"image": "BASE", "Image": "none:1", "remoteUser": "crew", "RemoteUser": "root"}`, line: "id -un", want: "crew"},
		"meaningless-stays": {definition: `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"A": "${nothing:x} ${also}", "B": "$HOME"}}`, line: "printenv A B", want: "${nothing:x} ${also}\n$HOME"},
		"stop-in-templates": {definition: `{"dockerComposeFile": "c.yaml", "service": "work", "workspaceFolder": "/workspaces/stop-in-templates"}`, files: map[string]string{".devcontainer/c.yaml": "services: { work: { image: BASE, init: true, command: sleep infinity, volumes: ['../..:/workspaces:cached'] } }", "here": "yes"}, line: "cat here", want: "yes"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			source := publish(t, name, c.definition, c.files)
			a := skipper.provision(t, source, "spec-"+name)
			if c.fails != "" {
				assert.Equal(t, 1, a.status)
				assert.Contains(t, a.err, c.fails)
				return
			}
			require.Equal(t, 0, a.status, a.err)
			assert.Equal(t, c.want, skipper.inside(t, "spec-"+name, c.line))
		})
	}
}

// Workspaces can be told apart by ${devcontainerId}, and each keeps its own.
func TestTheIdOfAWorkspace(t *testing.T) {
	const definition = `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"ID": "${devcontainerId}"}, "postCreateCommand": "echo $ID > ~/id"}`
	source := publish(t, "identified", definition, nil)
	ids := map[string]string{}
	for _, name := range []string{"first-id", "second-id"} {
		require.Equal(t, 0, skipper.provision(t, source, name).status)
		ids[name] = skipper.inside(t, name, "echo $ID")
		assert.Regexp(t, "^[0-9a-v]{52}$", ids[name])
	}
	assert.NotEqual(t, ids["first-id"], ids["second-id"])
	publish(t, "identified", `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"ID": "${devcontainerId}", "MORE": "1"}}`, nil)
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "first-id").status)
	assert.Equal(t, ids["first-id"]+" 1", skipper.inside(t, "first-id", "echo $ID $MORE"))
}

// A change of remoteEnv alone counts for what runs from then on, and runs no stage again.
func TestAChangeOfRemoteEnvAlone(t *testing.T) {
	definition := func(tide string) string {
		return `{"image": "BASE", "remoteUser": "crew", "remoteEnv": {"TIDE": "` + tide + `"}, "onCreateCommand": "echo $TIDE >> ~/stages", "postCreateCommand": "echo $TIDE >> ~/stages"}`
	}
	source := publish(t, "environed", definition("ebb"), nil)
	require.Equal(t, 0, skipper.provision(t, source, "environed").status)
	publish(t, "environed", definition("flood"), nil)
	a := skipper.domicile(t, "rebuild", "environed")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "flood ebb ebb", skipper.inside(t, "environed", "echo $TIDE $(cat ~/stages)"))
}
