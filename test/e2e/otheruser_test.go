package e2e

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Behind a plus a name has another user of the container: where the policy allows it, that one has the
// files, the rights and the environment, and nothing of what is lent to the person.
func TestAnotherUserOfTheContainer(t *testing.T) {
	source := publish(t, "manned", `{"image": "BASE", "remoteUser": "crew", "remoteEnv": {"BERTH": "4"}}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "manned").status)
	enters := func(who *person, name, line string) answer {
		return who.ssh(t, "", name+"@127.0.0.1", line)
	}
	a := enters(skipper, "manned+root", "id -un")
	assert.Equal(t, 255, a.status)
	assert.Contains(t, a.err, "does not allow people to come into a workspace as another user (root)")
	assert.Contains(t, a.err, "-allow other-users")
	assert.Equal(t, "crew\n", enters(skipper, "manned+crew", "id -un").out, "the person's own is no other one")
	assert.Contains(t, skipper.domicile(t, "run", "manned+root", "--", "id").err, "does not allow people to come in")

	serveWith(t, "-allow", "other-users")
	a = enters(skipper, "manned+root", `id -un; echo $HOME $USER $BERTH; pwd; id -G; touch ~/mine && stat -c %U ~/mine`)
	assert.Equal(t, "root\n/root root 4\n/workspaces/manned\n0\nroot\n", a.out, a.err)
	assert.Equal(t, "This account is currently not available.\n", enters(skipper, "manned+games", "id -un").out, "it has nologin for its shell")
	assert.Equal(t, "crew\n", enters(skipper, "manned", "id -un; cat /root/mine 2>/dev/null").out, "who else comes is the person")
	assert.Equal(t, "root\n", skipper.domicile(t, "run", "manned+root", "--", "id", "-un").out)
	put := exec.CommandContext(t.Context(), "sftp", append(skipper.sshOptions("-P"), "-b", "-", "manned+root@127.0.0.1")...)
	put.Stdin = strings.NewReader("put " + skipper.key + ".pub /root/by-sftp\n")
	a = finish(t, put)
	require.Equal(t, 0, a.status, a.err)
	a = enters(skipper, "manned+root", "stat -c '%U %a' /root/by-sftp")
	assert.Regexp(t, `^root \d+\n$`, a.out)

	for name, says := range map[string]string{"manned+nosuch": `no user "nosuch"`, "manned+0": "is no name of a user", "manned+": "is no name of a user", "manned+root+root": "is no name of a user", "manned+../x": "is no name of a user"} {
		a := enters(skipper, name, "id")
		assert.Equal(t, 255, a.status, name)
		assert.Contains(t, a.err, says, name)
		assert.Empty(t, a.out, name)
	}
	assert.Equal(t, 255, enters(finn, "manned+root", "id").status, "another account's is nobody's")
	hop := append([]string{"-o", "ProxyCommand=ssh " + strings.Join(skipper.sshOptions("-p"), " ") + " -W %h:%p domicile@127.0.0.1"}, skipper.sshOptions("-p")[:12]...)
	a = finish(t, exec.CommandContext(t.Context(), "ssh", append(hop, "manned+root.domicile", "id -un")...))
	assert.Equal(t, "root\n", a.out, a.err)
}
