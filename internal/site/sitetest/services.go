package sitetest

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// services are made and started beside a workspace, tell how they are and what they
// printed, and how much they have worked.
func (p Place) services(t *testing.T) {
	const id, opens = "w9", 7007
	public, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	p.make(t, id, p.container("served-1"))
	ctx := t.Context()
	listener := fmt.Sprintf("exec %s serve -socket /tmp/agent -guests 0.0.0.0:%d -service-key '%s'", wire.AgentPath, opens, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))))
	for name, line := range map[string]string{"lazy": "echo calm; exec sleep 600", "open": listener, "eager": "echo storm; while :; do :; done", "brief": "echo gone; exit 3"} {
		v := plan.Service{Name: name, Image: p.Image, Command: []string{"sh", "-c", line}}
		if name == "lazy" {
			v.Settings.Processes = 20
		}
		for range 2 {
			judged, err := plan.JudgeService(v, subject())
			require.NoError(t, err)
			require.NoError(t, p.can.Beside.EnsureService(ctx, id, v.Digest(), judged, t.TempDir()), "a second time changes nothing")
		}
		require.NoError(t, p.can.Beside.StartService(ctx, id, name))
	}
	find := func(name string) site.Service {
		list, err := p.can.Beside.Services(ctx, id)
		require.NoError(t, err)
		require.Len(t, list, 4)
		for _, v := range list {
			if v.Name == name {
				return v
			}
		}
		t.Fatalf("there is no service %s", name)
		return site.Service{}
	}
	assert.True(t, find("lazy").Running)
	stream, err := p.can.Overseer.ServiceListens(ctx, id, "open")
	require.NoError(t, err)
	var heard []int
	err = agentlink.Reports(ctx, stream, func(r wire.ListeningReport) {
		heard = nil
		for _, l := range r.Listeners {
			heard = append(heard, l.Port)
		}
		if slices.Contains(heard, opens) {
			assert.NoError(t, stream.Close())
		}
	})
	require.Error(t, err, "it ends when it is closed")
	assert.Equal(t, []int{opens}, heard, "%v", err)
	_, err = p.can.Overseer.ServiceListens(ctx, id, "none")
	assert.Error(t, err)
	_, err = p.can.Overseer.ServiceListens(ctx, id, "lazy")
	assert.ErrorContains(t, err, "may take too little", "what looks into it would take what it has")
	require.Eventually(t, func() bool { return !find("brief").Running }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, 3, find("brief").ExitCode)
	assert.True(t, find("brief").Started)
	var said bytes.Buffer
	require.NoError(t, p.can.Overseer.ServiceLog(ctx, id, "brief", 10, &said))
	assert.Equal(t, "gone\n", said.String())
	assert.Equal(t, "no-service", fault.Code(p.can.Overseer.ServiceLog(ctx, id, "none", 10, &said)))
	require.Eventually(t, func() bool {
		worked, err := p.can.Overseer.Worked(ctx, id)
		require.NoError(t, err)
		return worked > 300*time.Millisecond
	}, 20*time.Second, 50*time.Millisecond, "what works counts")
	require.NoError(t, p.Site.Stop(ctx, id, time.Second, true))
	assert.False(t, find("eager").Running)
	worked, err := p.can.Overseer.Worked(ctx, id)
	require.NoError(t, err)
	assert.Zero(t, worked, "what does not run does not work")
}
