package e2e

import (
	"fmt"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// The hostile collection at a site of machines: what is allowed there is allowed because the machine
// is the workspace's alone, and is said to be; what reaches for the service's host stays refused.
func TestPlacesHostileRepositoriesInMachines(t *testing.T) {
	serveWith(t, "-machines", machineImage(t))
	ready(t, "machines")
	const secret = "the-harbour-masters-secret"
	prize := filepath.Join(t.TempDir(), "prize.yaml")
	require.NoError(t, os.WriteFile(prize, []byte("SECRET="+secret+"\n"), 0o644))
	all := collection(prize)
	granted := 0
	for i, name := range slices.Sorted(maps.Keys(all)) {
		h := all[name]
		source := publish(t, fmt.Sprintf("harboured-%d", i), h.files[definitionFile], h.files)
		p, err := client.Answer[client.PlanAnswer](finn.api.PlanSource(t.Context(), client.CheckRequest{Source: source, Site: new("machines")}))
		switch {
		case err != nil || p.Refused != nil || h.harmless:
			assert.NotContains(t, fmt.Sprintf("%v %+v", err, p), secret, name)
		case assert.NotNil(t, p.Granted, "%s was let through, and nobody says why", name):
			granted++
			assert.NotContains(t, strings.Join(*p.Granted, "\n"), "the service's host", name)
			for _, of := range []string{"host command", "mount", "workspaceMount", "--volume", "env-file", "image: domicile"} {
				assert.NotContains(t, name, of, "what is the host's is nobody's to give")
			}
		}
	}
	t.Logf("%d repositories, of which %d may be in a machine of their own", len(all), granted)
	assert.Greater(t, granted, 30)

	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}

// What root of a machine can do with it harms nobody else, and whoever has it can begin anew.
func TestPlacesHostileInsideAMachine(t *testing.T) {
	serveWith(t, "-machines", machineImage(t))
	ready(t, "machines")
	listening, err := net.Listen("tcp", "127.0.0.1:0") // on the service's host
	require.NoError(t, err)
	defer listening.Close()
	source := publish(t, "harboured", `{"image": "BASE", "remoteUser": "root", "privileged": true, "capAdd": ["ALL"], "securityOpt": ["seccomp=unconfined", "apparmor=unconfined"],
		"runArgs": ["--pid=host", "--network=host", "--ipc=host", "--device=/dev/vda", "--device=/dev/vdb"]}`, map[string]string{"deck": "planks\n"})
	quiet := publish(t, "quiet", `{"image": "BASE", "remoteUser": "crew"}`, map[string]string{"deck": "planks\n"})
	require.Equal(t, 0, skipper.provision(t, quiet, "quiet", "-site", "machines", "-size", "small").status)
	a := finn.provision(t, source, "harboured", "-site", "machines", "-size", "small")
	require.Equal(t, 0, a.status, a.err)
	before := objects(t)
	fares := finn.inside(t, "harboured", "ls /dev | grep -c '^vd[a-z]$'; ls /proc/1/root/var/lib/docker | head -1; id -u")
	assert.Equal(t, "2", strings.Fields(fares)[0], "its own disks, and no others")
	assert.Regexp(t, `^[0-9a-f]{32}$`, finn.inside(t, "harboured", "cat /proc/1/root/run/machine-id"), "an identifier of its own, and not the template's")
	_, port, _ := net.SplitHostPort(listening.Addr().String())
	_, own, _ := strings.Cut(strings.TrimPrefix(world.Service.URL, "http://"), ":")
	for _, host := range []string{"10.0.2.2", "10.0.2.3", "127.0.0.1", "172.17.0.1"} {
		for _, p := range []string{port, own, "22", "5432", "2375"} {
			said := finn.inside(t, "harboured", "timeout 4 python3 -c 'import socket; socket.create_connection((\""+host+"\", "+p+"), 2); print(\"reached\")' 2>&1 || true")
			assert.NotContains(t, said, "reached", "%s:%s", host, p)
		}
	}
	for what, line := range map[string]string{
		"the serial ports are written to":        "for p in /proc/1/root/dev/vport*; do (timeout 2 sh -c \"head -c 3000000 /dev/urandom > $p\" || true); done 2>/dev/null; true",
		"its engine is another":                  "nsenter -t 1 -m -- sh -c 'pkill dockerd; sleep 1; rm -f /var/run/docker.sock; (python3 -m http.server 1 >/dev/null 2>&1 &) ; true' || true",
		"its first process is sent every signal": "for s in 1 2 3 15 9; do kill -$s 1 || true; done; true",
		"its memory is full":                     "(timeout 20 python3 -c 'x=[bytearray(1<<26) for _ in range(200)]' || true) 2>/dev/null; true",
		"it is turned off":                       "(sleep 1; echo o > /proc/sysrq-trigger) & true",
	} {
		_ = finn.domicile(t, "run", "harboured", "--", "sh", "-c", line) // whatever becomes of it
		assert.Equal(t, "planks", skipper.inside(t, "quiet", "cat deck"), "%s: another's is as it was", what)
		if used := finn.domicile(t, "run", "harboured", "--", "true"); used.status != 0 {
			t.Logf("%s: %s", what, lastLine(used.err))
			eventually(t, 60*time.Second, what+": it can be stopped", func() bool { return finn.domicile(t, "stop", "harboured").status == 0 })
			a := finn.domicile(t, "start", "harboured")
			require.Equal(t, 0, a.status, "%s: %s", what, a.err)
		}
		eventually(t, 60*time.Second, what+": it can be used again", func() bool { return finn.domicile(t, "run", "harboured", "--", "true").status == 0 })
	}
	assert.Equal(t, before, objects(t), "nothing came to be at the host's engine")
	out, err := exec.CommandContext(t.Context(), "ps", "-eo", "uid=,args=").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		if strings.Contains(line, "qemu-system") && strings.Contains(line, "domicile-w") {
			assert.NotRegexp(t, `^ *0 `, line, "no machine's process is root's")
		}
	}
	finn.remove(t, "harboured")
	skipper.remove(t, "quiet")
	serveWith(t)
	require.Equal(t, 0, skipper.domicile(t, "sites", "remove", "machines").status)
}
