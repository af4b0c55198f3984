package e2e

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// asRoot runs a line as root inside a workspace, as who has broken in there would.
func (p *person) asRoot(t *testing.T, name, line string) (string, error) {
	t.Helper()
	id := p.workspace(t, name).Id
	out, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.workspace=w"+itoa(id), "--filter", "label=domicile.service=")
	require.NoError(t, err, out)
	require.NotEmpty(t, out)
	b, err := exec.CommandContext(t.Context(), "docker", "-H", world.EngineAt, "exec", "-u", "0:0", strings.Fields(out)[0], "sh", "-c", line).CombinedOutput()
	return strings.TrimSpace(string(b)), err
}

// What a workspace is: bounded, without rights over its neighbours, and nobody on the host.
func TestAWorkspaceIsBounded(t *testing.T) {
	source := publish(t, "bounded", `{"dockerComposeFile": "compose.yaml", "service": "work", "remoteUser": "crew"}`, map[string]string{composeFile: "services:\n  work: { image: BASE, command: sleep infinity }\n  other: { image: BASE, command: sleep infinity }\n"})
	require.Equal(t, 0, skipper.provision(t, source, "bounded").status)
	list, err := engineSays(t, "ps", "-q", "--filter", "label=domicile.workspace=w"+itoa(skipper.workspace(t, "bounded").Id))
	require.NoError(t, err)
	require.Len(t, strings.Fields(list), 2)
	for _, c := range strings.Fields(list) {
		said, err := engineSays(t, "inspect", "-f", "{{.HostConfig.PidsLimit}} {{.HostConfig.Memory}} {{.HostConfig.CapDrop}} {{.HostConfig.LogConfig.Config}} {{.HostConfig.Privileged}} {{.HostConfig.Ulimits}}", c)
		require.NoError(t, err, said)
		assert.Regexp(t, `^4096 [1-9]\d{8,} \[CAP_MKNOD CAP_NET_RAW\] map\[max-file:3 max-size:10m\] false \[.*nofile`, said)
	}
	id, err := skipper.asRoot(t, "bounded", "cat /proc/self/uid_map; grep CapEff /proc/self/status")
	require.NoError(t, err)
	assert.Regexp(t, `^0 +[1-9]\d* +65536`, id, "root is nobody on the host")
	assert.Regexp(t, `CapEff:\s+[0-9a-f]{8}a00405fb`, id, "neither raw sockets nor devices")
	raw, err := skipper.asRoot(t, "bounded", `python3 -c "import socket; socket.socket(socket.AF_PACKET, socket.SOCK_RAW)"`)
	assert.Error(t, err, raw)
	assert.Equal(t, "works", skipper.inside(t, "bounded", "sudo -n true 2>/dev/null && echo works || (command -v sudo >/dev/null && echo broken || echo works)"), "set-user-id programs do")
}

// From inside nothing that the service follows can be replaced, and the agent obeys nobody
// else.
func TestNothingInsideIsFollowed(t *testing.T) {
	source := publish(t, "followed", `{"image": "BASE", "remoteUser": "crew", "customizations": {"domicile": {"engine": true}}}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "followed").status)
	// The door is opened by the agent, for whom a link leads nowhere but inside.
	_, err := skipper.asRoot(t, "followed", "rm -rf /run/domicile-door; ln -s /etc /run/domicile-door")
	require.NoError(t, err)
	// The agent's socket is in a folder that root inside may write to.
	host := t.TempDir()
	prize := filepath.Join(host, "prize.sock")
	_, err = skipper.asRoot(t, "followed", "mv /run/domicile/agent.sock /run/domicile/away; ln -s "+prize+" /run/domicile/agent.sock")
	require.NoError(t, err)
	a := skipper.domicile(t, "run", "followed", "--", "true")
	assert.NotEqual(t, 0, a.status)
	assert.Contains(t, a.err, "where the agent's socket should be is something else")
	_, err = skipper.asRoot(t, "followed", "rm /run/domicile/agent.sock; mkdir /run/domicile/agent.sock")
	require.NoError(t, err)
	assert.NotEqual(t, 0, skipper.domicile(t, "run", "followed", "--", "true").status)
	_, err = skipper.asRoot(t, "followed", "rmdir /run/domicile/agent.sock; mv /run/domicile/away /run/domicile/agent.sock")
	require.NoError(t, err)
	assert.Equal(t, "crew", skipper.inside(t, "followed", "id -un"))
	require.Equal(t, 0, skipper.domicile(t, "rebuild", "followed").status)
	assert.NoFileExists(t, "/etc/engine.sock")
	skipper.remove(t, "followed")
}

// The person inside has the person's rights, whatever is asked over SSH.
func TestForwardsInsideHaveThePersonsRights(t *testing.T) {
	source := publish(t, "forwarded", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "forwarded").status)
	local := filepath.Join(t.TempDir(), "x.sock")
	forward := exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), "-N", "-L", local+":/run/domicile/agent.sock", "forwarded@127.0.0.1")...)
	require.NoError(t, forward.Start())
	t.Cleanup(func() { _ = forward.Process.Kill(); _ = forward.Wait() })
	eventually(t, 10*time.Second, "it listens", func() bool { _, err := os.Stat(local); return err == nil })
	out, err := exec.CommandContext(t.Context(), "python3", "-c", "import socket,sys\ns=socket.socket(socket.AF_UNIX); s.settimeout(5); s.connect(sys.argv[1]); print(s.recv(9))", local).CombinedOutput()
	assert.NotContains(t, string(out), "SSH-", "the agent's socket is root's: %v", err)
	for path, want := range map[string]int{"/etc/made.sock": 255, "/run/domicile/made.sock": 255, "/tmp/made.sock": 0} {
		a := finish(t, exec.CommandContext(t.Context(), "ssh", append(skipper.sshOptions("-p"), "-o", "ExitOnForwardFailure=yes", "-R", path+":"+local, "forwarded@127.0.0.1", "stat -c %U "+path)...))
		assert.Equal(t, want, a.status, "%s: %s", path, a.err)
		if want == 0 {
			assert.Equal(t, "crew", strings.TrimSpace(a.out))
		}
	}
}

// A helper knows its workspace by a key that nobody else has.
func TestHelpersKnowTheirWorkspace(t *testing.T) {
	source := publish(t, "keyed", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, skipper.provision(t, source, "keyed").status)
	require.Equal(t, 0, skipper.domicile(t, "helper", "keyed", "-image", world.RegistryAt+"/skerry/base:12", "-as", "mate").status)
	assert.Equal(t, "mate", skipper.inside(t, "keyed", "ssh mate hostname"))
	without := skipper.domicile(t, "run", "keyed", "--", "ssh", "-F", "none", "-o", "IdentityFile=none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-p", "4322", "mate", "hostname")
	assert.NotEqual(t, 0, without.status)
	assert.Contains(t, without.err, "Permission denied")
	assert.Equal(t, "600 crew", skipper.inside(t, "keyed", "stat -c '%a %U' /etc/ssh/domicile_helpers_key"))
}

// Images that Domicile made are nobody's to name, whatever they are called at the engine.
func TestImagesOfOthersAreNotThere(t *testing.T) {
	source := publish(t, "owned", `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, map[string]string{".devcontainer/Dockerfile": "FROM BASE\nRUN echo mine > /mine\n"})
	require.Equal(t, 0, skipper.provision(t, source, "owned").status)
	id := skipper.keep(t, "owned", "")
	out, err := engineSays(t, "image", "ls", "--no-trunc", "--format", "{{.Repository}}:{{.Tag}} {{.ID}}")
	require.NoError(t, err)
	names := []string{builtName(t, skipper, "owned")}
	for line := range strings.Lines(out) {
		if strings.HasPrefix(line, "domicile-") {
			names = append(names, strings.Fields(line)...)
		}
	}
	require.Greater(t, len(names), 2)
	plain := publish(t, "plain", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, finn.provision(t, plain, "finns").status)
	for _, name := range names {
		for _, h := range []hostile{withImage(name), withDockerfile("FROM "+name+"\n", ""), withDockerfile("FROM BASE\nCOPY --from="+name+" / /x\n", ""), withDockerfile("ARG X="+name+"\nFROM $X\n", "")} {
			said, _ := refusedBy(t, publish(t, "thief", h.files[definitionFile], h.files))
			assert.NotEmpty(t, said, name)
		}
		helper := finn.domicile(t, "helper", "finns", "-image", name, "-as", "thief")
		assert.NotEqual(t, 0, helper.status, name)
		_ = finn.domicile(t, "remove", "finns.thief", "-yes")
		// Only the build itself sees what a variable stands for.
		late := publish(t, "late", `{"build": {"dockerfile": "Dockerfile"}}`, map[string]string{".devcontainer/Dockerfile": "FROM BASE AS x\nARG Y=" + name + "\nFROM x\nRUN --mount=type=bind,from=" + name + ",target=/y cat /y/mine\n"})
		a := finn.provision(t, late, "late")
		assert.NotEqual(t, 0, a.status, name)
		assert.NotContains(t, a.err, "mine\n")
	}
	assert.Equal(t, 1, finn.domicile(t, "snapshots", "make", id, "-name", "stolen").status)
	finn.remove(t, "finns")
	require.Equal(t, 0, skipper.domicile(t, "snapshots", "remove", id, "-yes").status)
}

// What one account's builds leave in a cache is not in another's.
func TestCachesBelongToAnAccount(t *testing.T) {
	files := func(line string) map[string]string {
		return map[string]string{".devcontainer/Dockerfile": "FROM BASE\nRUN --mount=type=cache,id=shared,target=/cache " + line + "\n"}
	}
	const definition = `{"build": {"dockerfile": "Dockerfile"}}`
	a := skipper.provision(t, publish(t, "leaves", definition, files("echo poison > /cache/file && ls /cache > /seen")), "leaves")
	require.Equal(t, 0, a.status, a.err)
	looks := publish(t, "looks", definition, files("ls -A /cache > /seen"))
	require.Equal(t, 0, skipper.provision(t, looks, "looks").status)
	assert.Equal(t, "file", skipper.inside(t, "looks", "cat /seen"), "its own")
	require.Equal(t, 0, finn.provision(t, looks, "looks").status)
	assert.Empty(t, finn.inside(t, "looks", "cat /seen"), "another's")
	assert.NotEqual(t, builtName(t, skipper, "looks"), builtName(t, finn, "looks"), "nor is the image shared that was made with it")
	finn.remove(t, "looks")
}

// What ADD names is fetched through the service's way out.
func TestWhatADockerfileAdds(t *testing.T) {
	served := world.GitAt + "/skerry/timetable.git/HEAD"
	source := publish(t, "adds", `{"build": {"dockerfile": "Dockerfile"}}`, map[string]string{".devcontainer/Dockerfile": "FROM BASE\nARG FROM=" + served + "\nADD $FROM /fetched/\nADD --chmod=644 " + served + " /named\n"})
	a := skipper.provision(t, source, "adds")
	require.Equal(t, 0, a.status, a.err)
	assert.Equal(t, "ref: refs/heads/main\nref: refs/heads/main", skipper.inside(t, "adds", "cat /fetched/HEAD /named"))
	for _, address := range []string{"http://127.0.0.2:9/x", "http://10.0.0.1/x", "http://169.254.169.254/latest", "http://[::1]:9/"} {
		a := finn.provision(t, publish(t, "adds-more", `{"build": {"dockerfile": "Dockerfile"}}`, map[string]string{".devcontainer/Dockerfile": "FROM BASE\n\nADD " + address + " /x\n"}), "adds-more")
		require.Equal(t, 1, a.status, address)
		assert.Contains(t, a.err, ".devcontainer/Dockerfile:3: ADD "+address, address)
		assert.Contains(t, a.err, "which the service asks for nobody")
	}
}

// Contexts beside a build's own are folders of the repository and images that may be pulled;
// and nothing asks other hosts while the build is only being planned.
func TestWhatABuildNamesBeside(t *testing.T) {
	build := func(name, of string, more ...string) string {
		return publish(t, name, `{"dockerComposeFile": "c.yaml", "service": "work", "workspaceFolder": "/src"}`, map[string]string{"folder/x": "x",
			".devcontainer/c.yaml": "services:\n  work:\n    init: true\n    command: sleep infinity\n    volumes: ['..:/src']\n    build:\n      context: ../folder\n      additional_contexts: { beside: '" + of + "' }\n" + strings.Join(more, "\n") + "\n"})
	}
	const inline = "      dockerfile_inline: |\n        FROM BASE\n        COPY --from=beside / /beside\n"
	for of, says := range map[string]string{"/etc": "c.yaml:", "../..": "c.yaml:", "https://skerry.test/x.git": "c.yaml:", "git@skerry.test:x": "c.yaml:", "oci-layout:///var/lib": "c.yaml:", "service:other": "c.yaml", "target:base": "c.yaml:",
		"docker-image://domicile-image:0123456789abcdef": "c.yaml", "docker-image://10.0.0.1/skerry/base:12": "10.0.0.1"} {
		a := finn.provision(t, build("beside-bad", of, inline), "beside-bad")
		assert.Equal(t, 1, a.status, of)
		assert.Contains(t, a.err, says, of)
	}
	heard := make(chan string, 10)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			heard <- conn.RemoteAddr().String()
			conn.Close()
		}
	}()
	a := finn.provision(t, build("beside-asks", "../folder", "      args: { SOURCE_DATE_EPOCH: evil }", "      dockerfile_inline: |\n        ARG SOURCE_DATE_EPOCH\n        FROM scratch AS evil\n        ADD http://"+l.Addr().String()+"/x /x\n        FROM BASE\n        COPY --from=beside x /x"), "beside-asks")
	require.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "gets only folders of the repository")
	assert.Contains(t, a.err, "SOURCE_DATE_EPOCH")
	assert.Empty(t, heard, "nobody was asked")
}

// Who takes all it can get is bounded, and a neighbour is answered meanwhile.
func TestANeighbourIsAnsweredMeanwhile(t *testing.T) {
	free, err := exec.CommandContext(t.Context(), "df", "--output=avail", "-B1", filepath.Join(world.Folder(), "engine")).Output()
	require.NoError(t, err)
	var bytes int64
	_, err = fmt.Sscan(strings.Fields(string(free))[1], &bytes)
	require.NoError(t, err)
	// The disk counts as full when about one more gigabyte is written.
	serveWith(t, "-size", "small", "-sizes", "small=1:512mb", "-disk-reserve", fmt.Sprintf("%dmb", bytes>>20-1024))
	source := publish(t, "greedy", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	for _, name := range []string{"neighbour", "forks", "eats", "fills"} {
		require.Equal(t, 0, skipper.provision(t, source, name).status, name)
	}
	start := func(name, line string) {
		c := skipper.command(t.Context(), "", "run", name, "--", "sh", "-c", line)
		require.NoError(t, c.Start())
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	}
	start("forks", "bomb() { bomb | bomb & }; bomb; sleep 60")
	start("eats", `python3 -c "
kept = []
while True: kept.append(bytearray(16 << 20))"`)
	start("fills", "dd if=/dev/zero of=/home/crew/full bs=1M count=3000; sleep 60")
	// OpenSSH itself gives up on a connection that is not made in time: each of them is made.
	slowest := time.Duration(0)
	for begun, times := time.Now(), 0; time.Since(begun) < 20*time.Second || times < 5; times++ {
		at := time.Now()
		a := skipper.ssh(t, "", "-o", "ConnectTimeout=60", "neighbour@127.0.0.1", "echo here")
		slowest = max(slowest, time.Since(at))
		require.Equal(t, "here\n", a.out, a.err)
	}
	t.Logf("the neighbour's slowest answer took %s", slowest)
	eventually(t, 60*time.Second, "the writer is stopped", func() bool { return skipper.workspace(t, "fills").State == client.WorkspaceStateStopped })
	assert.Contains(t, *skipper.workspace(t, "fills").Reason, "this workspace had written most")
	for _, name := range []string{"neighbour", "eats"} {
		assert.Equal(t, client.WorkspaceStateReady, skipper.workspace(t, name).State, name)
	}
}

// An account that is locked is out at once, one that is removed takes all with it, and a
// password that is changed ends what was signed in with the one before.
func TestAccountsEnd(t *testing.T) {
	brief := anotherPerson(t, "brief")
	source := publish(t, "briefly", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	require.Equal(t, 0, brief.domicile(t, "provision", source, "-name", "briefly").status) // what becomes of it is the test
	session := exec.CommandContext(t.Context(), "ssh", append(brief.sshOptions("-p"), "briefly@127.0.0.1", "sleep 300")...)
	require.NoError(t, session.Start())
	ended := make(chan error, 1)
	go func() { ended <- session.Wait() }()
	eventually(t, 10*time.Second, "it is connected", func() bool {
		return strings.Contains(skipper.domicile(t, "accounts").out, "brief") && brief.inside(t, "briefly", "pgrep -c sleep || true") != "0"
	})
	assert.Equal(t, 1, finn.domicile(t, "accounts", "lock", "brief").status, "not by a member")
	require.Equal(t, 0, skipper.domicile(t, "accounts", "lock", "brief").status)
	select {
	case err := <-ended:
		assert.Error(t, err)
	case <-time.After(20 * time.Second):
		t.Fatal("the connection goes on")
	}
	assert.Equal(t, 255, brief.ssh(t, "", "briefly@127.0.0.1", "true").status)
	assert.Contains(t, brief.domicile(t, "list").err, "no valid token")
	status, code := (*person)(nil).request(t, http.MethodPost, "/api/v1/session", `{"name":"brief","password":"all-hands-on-deck"}`)
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Equal(t, "wrong-password", code, "nobody learns that it is locked")
	require.Equal(t, 0, skipper.domicile(t, "accounts", "unlock", "brief").status)
	require.Equal(t, 0, brief.domicile(t, "list").status)

	change := func(in string) answer { return finish(t, brief.command(t.Context(), in, "password").Cmd) }
	assert.Contains(t, change("guess-guess-guess\nnew-hands-on-deck\n").err, "do not fit together")
	assert.Contains(t, change("all-hands-on-deck\nshort\n").err, "fewer than 12")
	other, err := client.Answer[client.Token](brief.api.AddToken(t.Context(), client.NewToken{Label: "other"}))
	require.NoError(t, err)
	require.Equal(t, 0, change("all-hands-on-deck\nnew-hands-on-deck\n").status)
	require.Equal(t, 0, brief.domicile(t, "list").status, "this one goes on")
	gone := &person{token: other.Token}
	status, _ = gone.request(t, http.MethodGet, "/api/v1/account", "")
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Regexp(t, `console +just now +\d{4}-\d\d-\d\d +this one`, brief.domicile(t, "tokens").out)
	assert.Regexp(t, `brief +127.0.0.1 +wrong password`, skipper.domicile(t, "sign-ins").out)
	assert.NotContains(t, finn.domicile(t, "sign-ins").out, "brief", "others' are not shown")

	assert.Contains(t, skipper.domicile(t, "accounts", "remove", "skipper").err, "signed in with")
	require.Equal(t, 0, skipper.domicile(t, "accounts", "remove", "brief").status)
	assert.Equal(t, 1, brief.domicile(t, "list").status)
	eventually(t, 60*time.Second, "all is gone", func() bool {
		return !strings.Contains(skipper.domicile(t, "accounts").out, "brief") && len(objects(t)) == 0
	})
}
