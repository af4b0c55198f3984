package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The host key is changed in an orderly way: OpenSSH learns the next one while the present one is in
// use, who knows the authority needs to learn none, and who has learned nothing is warned.
func TestTheHostKeyIsChanged(t *testing.T) {
	t.Parallel()
	p := anotherPerson(t, "signal")
	a := p.provision(t, publish(t, "signaldeck", `{"image": "BASE", "remoteUser": "crew"}`, nil), "signals")
	require.Equal(t, 0, a.status, a.err)
	_, port, _ := strings.Cut(world.Service.SSH, ":")
	ssh := func(known string) answer {
		return finish(t, exec.CommandContext(t.Context(), "ssh", "-F", "none", "-i", p.key, "-p", port, "-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=yes",
			"-o", "GlobalKnownHostsFile=none", "-o", "UserKnownHostsFile="+known, "-o", "UpdateHostKeys=yes", "signals@127.0.0.1", "echo ahoy"))
	}
	file := func(line string) string {
		path := filepath.Join(t.TempDir(), "known_hosts")
		require.NoError(t, os.WriteFile(path, []byte(line+"\n"), 0o600))
		return path
	}
	shown := skipper.domicile(t, "hostkey")
	require.Equal(t, 0, shown.status, shown.err)
	line := func(pattern string) string {
		found := regexp.MustCompile(`(?m)^ +(` + pattern + `.*)$`).FindStringSubmatch(shown.out)
		require.NotNil(t, found, shown.out)
		return found[1]
	}
	learns, knows, stays := file(line(`\[`)), file(line(`@cert-authority \[`)), file(line(`\[`))
	for _, known := range []string{learns, knows} {
		assert.Equal(t, "ahoy\n", ssh(known).out)
	}
	assert.Contains(t, p.domicile(t, "address", "signals").out, strings.TrimSpace(read(t, knows)))

	assert.Contains(t, p.domicile(t, "hostkey", "next").err, "administrator")
	assert.Contains(t, skipper.domicile(t, "hostkey", "change").err, "no next host key is announced")
	assert.Equal(t, 2, skipper.domicile(t, "hostkey", "sail").status)
	a = skipper.domicile(t, "hostkey", "next")
	require.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.out, "Next: SHA256:")
	assert.Equal(t, "ahoy\n", ssh(learns).out)
	eventually(t, 10*time.Second, "OpenSSH has learned the next key", func() bool { return strings.Count(read(t, learns), "ssh-ed25519") == 2 })
	a = skipper.domicile(t, "hostkey", "change")
	require.Equal(t, 0, a.status, a.err)
	assert.NotContains(t, a.out, "Next:")
	for _, known := range []string{learns, knows} {
		a := ssh(known)
		assert.Equal(t, "ahoy\n", a.out, a.err)
	}
	a = ssh(stays)
	assert.Equal(t, 255, a.status)
	assert.Contains(t, a.err, "REMOTE HOST IDENTIFICATION HAS CHANGED")
	a = p.domicile(t, "run", "signals", "--", "echo", "ahoy")
	assert.Equal(t, "ahoy\n", a.out, a.err)
}
