package engine

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/docker/docker/api/types/network"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatIsMissingOfTheBorder(t *testing.T) {
	there := func(device string) bool { return device != "br-gone" }
	bridges := []bridge{{device: "br-1"}, {device: "br-2", closed: true}}
	const whole = `-P FORWARD ACCEPT
-N DOMICILE-FROM
-N DOMICILE-TO
-A FORWARD -j DOMICILE-FROM
-A DOMICILE-FROM -i br-1 ! -o br-1 -j DOMICILE-TO
-A DOMICILE-FROM -i br-2 ! -o br-2 -j DOMICILE-TO
-A DOMICILE-FROM -i br-2 -o br-2 -j DROP
-A DOMICILE-TO -o br-1 -j DROP
-A DOMICILE-TO -o br-2 -j DROP
`
	assert.Empty(t, borderChange(whole, bridges, there), "it is up to date")
	assert.Equal(t, "*mangle\n-I FORWARD -j DOMICILE-FROM\nCOMMIT\n", borderChange(strings.Replace(whole, "-A FORWARD -j DOMICILE-FROM\n", "", 1), bridges, there))
	assert.Equal(t, "*mangle\n-A DOMICILE-TO -o br-2 -j DROP\nCOMMIT\n", borderChange(strings.Replace(whole, "-A DOMICILE-TO -o br-2 -j DROP\n", "", 1), bridges, there))
	assert.Equal(t, "*mangle\n-D DOMICILE-TO -o br-gone -j DROP\nCOMMIT\n", borderChange(whole+"-A DOMICILE-TO -o br-gone -j DROP\n", bridges, there), "and nothing of others")
	fresh := borderChange("-P FORWARD ACCEPT\n", bridges, there)
	for _, line := range strings.Split(strings.TrimSpace(whole), "\n")[4:] {
		assert.Contains(t, fresh, line+"\n")
	}
	assert.Contains(t, fresh, ":DOMICILE-FROM - [0:0]\n")
}

// Another engine that starts on this machine clears the engines' own rules: what they kept
// apart stays apart, and a trial would tell if it did not.
func TestNetworksStayApart(t *testing.T) {
	s := newSite(t, "border", t.TempDir())
	ctx := t.Context()
	var ids []string
	for _, name := range []string{"domicile-border-a", "domicile-border-b"} {
		id, err := s.oneNetwork(ctx, name, network.CreateOptions{Driver: "bridge", Labels: s.trialLabels()})
		require.NoError(t, err)
		defer func() { assert.NoError(t, s.api.NetworkRemove(ctx, id)) }()
		ids = append(ids, id)
	}
	reached, err := s.reaches(ctx, ids[0], ids[0])
	require.NoError(t, err)
	assert.True(t, reached, "on one network they meet: the trial can tell")
	for _, chain := range []string{"DOCKER-ISOLATION-STAGE-1", "DOCKER-ISOLATION-STAGE-2"} {
		newer := exec.CommandContext(ctx, "iptables", "-w", "-F", chain).Run()
		older := exec.CommandContext(ctx, "iptables-legacy", "-w", "-F", chain).Run()
		require.True(t, newer == nil || older == nil, "the engine has its rules in one of them: %v, %v", newer, older)
	}
	reached, err = s.reaches(ctx, ids[0], ids[1])
	require.NoError(t, err)
	assert.False(t, reached, "the border holds without the engine's rules")
	// Somebody clears the border's own: the next look puts it back.
	for _, id := range ids {
		out, err := exec.CommandContext(ctx, "iptables", "-w", "-t", borderTable, "-D", borderTo, "-o", "br-"+id[:12], "-j", "DROP").CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	reached, err = s.reaches(ctx, ids[0], ids[1])
	require.NoError(t, err)
	assert.True(t, reached, "with neither, they reach each other")
	assert.Empty(t, s.border(ctx).said)
	reached, err = s.tryNetworks(ctx)
	require.NoError(t, err)
	assert.False(t, reached)
}

func TestWhatKeepsNetworksApart(t *testing.T) {
	const whole = `-P FORWARD DROP
-N DOCKER-ISOLATION-STAGE-1
-A FORWARD -j DOCKER-USER
-A FORWARD -j DOCKER-ISOLATION-STAGE-1
-A DOCKER-ISOLATION-STAGE-1 -i br-1 ! -o br-1 -j DOCKER-ISOLATION-STAGE-2
-A DOCKER-ISOLATION-STAGE-1 -i br-2 ! -o br-2 -j DOCKER-ISOLATION-STAGE-2
-A DOCKER-ISOLATION-STAGE-2 -o br-1 -j DROP
-A DOCKER-ISOLATION-STAGE-2 -o br-2 -j DROP
`
	both := []string{"br-1", "br-2"}
	assert.Empty(t, keptApart(whole, both))
	for _, line := range strings.Split(strings.TrimSpace(whole), "\n")[3:] {
		assert.NotEmpty(t, keptApart(strings.Replace(whole, line+"\n", "", 1), both), "without %s", line)
	}
	assert.NotEmpty(t, keptApart("", both), "another engine has cleared it")
	assert.Empty(t, keptApart("-A FORWARD -j DOCKER-FORWARD\n", both), "a newer engine")
}
