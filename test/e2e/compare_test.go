package e2e

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// It works in one and not in the other: what somebody installed by hand is named first, because
// the check that fails names it.
func TestTwoWorkspacesSideBySide(t *testing.T) {
	t.Parallel()
	source := publish(t, "sidebyside", `{"image": "BASE", "remoteUser": "crew", "containerEnv": {"HARBOUR_TOKEN": "gannet-on-the-rock"},
		"customizations": {"domicile": {"checks": {"pilot": {"command": "pilot", "contains": "aboard"}}}}}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "port").status)
	require.Equal(t, 0, skipper.provision(t, source, "starboard").status)
	compare := func() client.Comparison {
		a := skipper.domicile(t, "compare", "port", "starboard", "-json")
		require.Equal(t, 0, a.status, a.err)
		assert.NotContains(t, a.out, "gannet-on-the-rock")
		var c client.Comparison
		require.NoError(t, json.Unmarshal([]byte(a.out), &c))
		return c
	}
	c := compare()
	assert.Empty(t, c.Differences, "made from the same, they are alike")
	for _, kind := range []client.ComparedKind{client.ComparedKindCheck, client.ComparedKindDefinition, client.ComparedKindImage, client.ComparedKindVariable, client.ComparedKindTool, client.ComparedKindPackage, client.ComparedKindSystem, client.ComparedKindLimit} {
		assert.Contains(t, c.Same, kind)
	}

	container, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.workspace=w"+itoa(skipper.workspace(t, "starboard").Id))
	require.NoError(t, err)
	out, err := dockerExec(t, container, "sh", "-ec", `cd "$(mktemp -d)"; mkdir -p pilot/DEBIAN pilot/usr/bin
		printf 'Package: pilot\nVersion: 2.4\nArchitecture: all\nMaintainer: Crew <crew@skerry.test>\nDescription: comes aboard\n' >pilot/DEBIAN/control
		printf '#!/bin/sh\necho aboard\n' >pilot/usr/bin/pilot; chmod +x pilot/usr/bin/pilot; dpkg-deb -b pilot >/dev/null; dpkg -i pilot.deb; chmod 000 /opt`)
	require.NoError(t, err, out)
	require.Equal(t, 0, skipper.domicile(t, "checks", "starboard").status)
	c = compare()
	require.GreaterOrEqual(t, len(c.Differences), 2)
	assert.Equal(t, client.ComparedKindCheck, c.Differences[0].Kind)
	assert.Equal(t, client.Difference{Kind: client.ComparedKindPackage, Name: "pilot", B: new("2.4"), Why: c.Differences[1].Why}, c.Differences[1])
	assert.Contains(t, c.Differences[1].Why, "by hand")
	said := skipper.domicile(t, "compare", "port", "starboard").out
	assert.Regexp(t, `(?s)2 differences between port and starboard, the most likely culprit first.*1  check pilot.*names it; both are made from the same.*2  package pilot\n +port +-\n +starboard  2\.4\n`, said)
	assert.Contains(t, said, "The same: ")

	require.Equal(t, 0, skipper.domicile(t, "stop", "starboard").status)
	c = compare()
	assert.Equal(t, "it is stopped", *c.B.Unseen)
	assert.NotContains(t, c.Same, client.ComparedKindPackage, "nothing is said of what was not seen")
	assert.Contains(t, skipper.domicile(t, "compare", "port", "port").err, "compared with itself")
	assert.Contains(t, skipper.domicile(t, "compare", "port", "nowhere").err, "no workspace")
	assert.Contains(t, finn.domicile(t, "compare", "port", "starboard").err, "no workspace", "another's")
}

// A workspace that answers without end, or lies, harms nobody but itself.
func TestAHostileWorkspaceIsCompared(t *testing.T) {
	t.Parallel()
	source := publish(t, "liar", `{"image": "BASE", "remoteUser": "crew", "remoteEnv": {"PATH": "/home/crew/bin:${containerEnv:PATH}"},
		"onCreateCommand": "mkdir -p ~/bin; printf '#!/bin/sh\nprintf \"git \\033]0;owned\\007 9\\\\n\"\nyes x\n' >~/bin/git; printf '#!/bin/sh\nsleep 600\n' >~/bin/psql; chmod +x ~/bin/*"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "liar").status)
	require.Equal(t, 0, skipper.provision(t, repository("timetable"), "honest").status)
	a := skipper.domicile(t, "compare", "liar", "honest")
	require.Equal(t, 0, a.status, a.err)
	assert.NotContains(t, a.out, "\x1b")
	assert.Contains(t, a.out, "Of liar not everything was compared: not all of it could be looked at")
	assert.Contains(t, a.out, "definition onCreateCommand")
}
