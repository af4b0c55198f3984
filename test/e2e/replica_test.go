package e2e

import (
	"context"
	"io"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// Two services on the same records share the work: an image that both want at the same
// moment is built once, and what one of them had begun when it was killed the other ends.
func TestTwoReplicasShareTheWork(t *testing.T) {
	replica, err := world.StartReplica(t.Context())
	require.NoError(t, err)
	t.Cleanup(replica.Stop)
	there, err := client.Open(replica.URL, skipper.token)
	require.NoError(t, err)
	source := publish(t, "shared", `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "postCreateCommand": "sleep 3; echo once >> ~/stages"}`,
		map[string]string{".devcontainer/Dockerfile": "FROM BASE\nRUN sleep 1; cat /proc/sys/kernel/random/uuid > /built\n"})
	var all sync.WaitGroup
	for _, x := range []struct {
		name string
		by   *client.Service
	}{{"port", skipper.api}, {"starboard", there}} {
		t.Cleanup(func() { skipper.remove(t, x.name) })
		all.Go(func() {
			_, err := client.Answer[client.Workspace](x.by.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &x.name}))
			assert.NoError(t, err)
		})
	}
	all.Wait()
	for _, name := range []string{"port", "starboard"} {
		a := skipper.domicile(t, "follow", name)
		require.Equal(t, 0, a.status, a.err)
	}
	assert.Equal(t, skipper.inside(t, "port", "cat /built"), skipper.inside(t, "starboard", "cat /built"), "it was built once")

	// The events of one come to those who listen at the other; a killed one's runs are taken over.
	for _, name := range []string{"bow", "stern", "keel", "mast"} {
		t.Cleanup(func() { skipper.remove(t, name) })
		_, err := client.Answer[client.Workspace](there.Provision(t.Context(), client.ProvisionRequest{Source: source, Name: &name}))
		require.NoError(t, err)
	}
	eventually(t, 30*time.Second, "all are in their last stage", func() bool {
		n := 0
		for _, name := range []string{"bow", "stern", "keel", "mast"} {
			for _, s := range skipper.workspace(t, name).Run.Steps {
				if s.Name == "postCreateCommand" && s.State == client.StepStateRunning {
					n++
				}
			}
		}
		return n >= 2
	})
	replica.Kill()
	for _, name := range []string{"bow", "stern", "keel", "mast"} {
		a := skipper.domicile(t, "follow", name)
		require.Equal(t, 0, a.status, a.err)
		assert.Equal(t, "once", strings.TrimSpace(skipper.inside(t, name, "cat ~/stages")), name)
	}
}

// A workspace's door opens as long as any service lives, whichever it is.
func TestTheDoorOutlivesTheServiceThatHeldIt(t *testing.T) {
	source := publish(t, "harbour", `{"image": "BASE", "remoteUser": "crew", "customizations": {"domicile": {"engine": true}}}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "harbour").status)
	inside := containerOf(t, "harbour")
	opens := func() bool {
		out, err := dockerExec(t, inside, "python3", "-c", "import socket\ns = socket.socket(socket.AF_UNIX)\ns.settimeout(5)\ns.connect('/run/domicile-door/engine.sock')\ns.sendall(b'GET /_ping HTTP/1.0\\r\\n\\r\\n')\nprint(s.recv(999).decode())")
		return err == nil && strings.Contains(out, "200 OK")
	}
	require.True(t, opens())
	replica, err := world.StartReplica(t.Context())
	require.NoError(t, err)
	t.Cleanup(replica.Stop)
	world.Service.Kill()
	eventually(t, 20*time.Second, "the other one opens it", opens)
	require.NoError(t, world.StartService(t.Context()))
	replica.Kill()
	eventually(t, 20*time.Second, "the first one opens it again", opens)
}

// An invitation that ends at one service ends what the guest has open at another one.
func TestAGuestAtTheOtherService(t *testing.T) {
	replica, err := world.StartReplica(t.Context())
	require.NoError(t, err)
	t.Cleanup(replica.Stop)
	source := publish(t, "wardroom", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "wardroom").status)
	ivy := anotherPerson(t, "ivy.w")
	require.Equal(t, 0, skipper.domicile(t, "invite", "wardroom", "ivy.w", "-may", "type").status)

	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	host, port, _ := strings.Cut(replica.SSH, ":")
	visit := exec.CommandContext(ctx, "ssh", append(append([]string{"-tt", "-p", port}, ivy.sshOptions("-p")...), "wardroom~skipper@"+host, "read -r x; echo $x, $x; sleep 600")...)
	typed, err := visit.StdinPipe()
	require.NoError(t, err)
	shown, err := visit.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, visit.Start())
	_, err = io.WriteString(typed, "aye\n")
	require.NoError(t, err)
	seen := ""
	for b := make([]byte, 1024); !strings.Contains(seen, "aye, aye"); {
		n, err := shown.Read(b)
		seen += string(b[:n])
		require.NoError(t, err, seen)
	}
	assert.Contains(t, skipper.domicile(t, "guests", "wardroom").out, "ivy.w")

	require.Equal(t, 0, skipper.domicile(t, "guests", "wardroom", "-end", "ivy.w").status)
	_, _ = io.Copy(io.Discard, shown)
	assert.Error(t, visit.Wait(), "it was ended")
	require.NoError(t, ctx.Err(), "and not by its own limit")
	assert.Contains(t, ivy.sshAt(t, replica.SSH, "wardroom~skipper", "id").err, "You are not invited into wardroom of skipper, or no more")
}
