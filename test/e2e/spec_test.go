package e2e

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bell is a feature whose entrypoint tells who runs it, and its script who it is told of.
var bell = map[string]string{
	".devcontainer/bell/devcontainer-feature.json": `{"id": "bell", "version": "1.0.0", "entrypoint": "/opt/bell"}`,
	".devcontainer/bell/install.sh":                "printf '#!/bin/sh\\nid -un > /tmp/rang\\n' > /opt/bell; chmod +x /opt/bell; echo $_CONTAINER_USER $_REMOTE_USER $_REMOTE_USER_HOME > /opt/told",
}

func with(files map[string]string, name, text string) map[string]string {
	more := maps.Clone(files)
	more[name] = text
	return more
}

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
		"first-process":     {definition: `{"image": "BASE", "containerUser": "crew", "features": {"./bell": {}}}`, files: bell, line: "stat -c %U /proc/1; cat /tmp/rang", want: "crew\ncrew"},
		"first-process-of-the-image": {definition: `{"build": {"dockerfile": "Dockerfile"}, "features": {"./bell": {}}}`, files: with(bell, ".devcontainer/Dockerfile", "FROM BASE\nARG WHO=crew\nUSER $WHO\n"),
			line: "stat -c %U /proc/1; cat /tmp/rang; id -un", want: "crew\ncrew\ncrew"},
		"first-process-of-root": {definition: `{"image": "BASE", "remoteUser": "crew", "features": {"./bell": {}}}`, files: bell, line: "stat -c %U /proc/1; cat /tmp/rang; id -un", want: "root\nroot\ncrew"},
		"features-see-run-as":   {definition: `{"image": "BASE", "runArgs": ["--user=crew"], "features": {"./bell": {}}}`, files: bell, line: "cat /opt/told", want: "crew crew /home/crew"},
		"parts":                 {definition: `{"image": "BASE", "remoteUser": "crew", "mounts": ["source=${localWorkspaceFolder}/data,target=/data,type=bind", {"type": "bind", "source": "${localWorkspaceFolder}", "target": "/whole"}], "runArgs": ["-v", "${localWorkspaceFolder}/data/rate:/etc/rate"]}`, files: map[string]string{"data/rate": "7"}, line: "cat /data/rate /whole/data/rate /etc/rate; echo 8 > data/rate; cat /data/rate /etc/rate", want: "7778\n8"},
		"base-name":             {definition: `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"A": "${localWorkspaceFolderBasename}"}}`, line: "echo $A; pwd", want: "base-name\n/workspaces/base-name"},
		"dockerfile-label":      {definition: `{"build": {"dockerfile": "Dockerfile"}}`, files: map[string]string{".devcontainer/Dockerfile": "FROM BASE\nLABEL devcontainer.metadata='[{\"remoteUser\": \"crew\", \"remoteEnv\": {\"TIDE\": \"ebb\"}}]'\n"}, line: "id -un; echo $TIDE", want: "crew\nebb"},
		"inline-dockerfile": {definition: `{"dockerComposeFile": "c.yaml", "service": "work", "workspaceFolder": "/src"}`, files: map[string]string{"hull/name": "Skerry", "extra/keel": "oak", ".devcontainer/c.yaml": "services:\n  work:\n    init: true\n    command: sleep infinity\n    volumes: ['..:/src']\n    build:\n      context: ../hull\n      additional_contexts: { more: ../extra, wood: 'docker-image://BASE' }\n      dockerfile_inline: |\n        FROM wood\n        COPY name /name\n        COPY --from=more keel /keel\n        COPY --from=wood /etc/hostname /other\n        USER crew\n"},
			line: "cat /name /keel; id -un", want: "Skerryoakcrew"},
		"inline-slip":       {definition: `{"dockerComposeFile": "c.yaml", "service": "work", "workspaceFolder": "/src"}`, files: map[string]string{".devcontainer/c.yaml": "services:\n  work:\n    build:\n      context: .\n      dockerfile_inline: |\n        FROM BASE\n        RUNN x\n"}, fails: ".devcontainer/c.yaml:7"},
		"context-elsewhere": {definition: `{"dockerComposeFile": "c.yaml", "service": "work", "workspaceFolder": "/src"}`, files: map[string]string{".devcontainer/c.yaml": "services:\n  work:\n    build:\n      context: .\n      additional_contexts:\n        host: /etc\n      dockerfile_inline: FROM BASE\n"}, fails: ".devcontainer/c.yaml"},
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

// An agent that is not the first process is started again when it is gone.
func TestAnAgentThatIsGoneComesBack(t *testing.T) {
	source := publish(t, "manned", `{"image": "BASE", "containerUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "manned").status)
	out, err := engineSays(t, "exec", "-u", "0", objects(t)[0], "pkill", "-9", "-f", "domicile-agent serve")
	require.NoError(t, err, out)
	assert.Equal(t, "crew", skipper.inside(t, "manned", "id -un"))
}
