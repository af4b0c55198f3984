package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

func get(t *testing.T, path string) (int, string) {
	t.Helper()
	r, err := http.Get(world.Service.URL + path)
	require.NoError(t, err)
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, string(b)
}

func TestWhatAnOperatorAsks(t *testing.T) {
	for path, says := range map[string]string{"/healthz": "ok", "/readyz": "ok", "/api/openapi.yaml": "openapi: 3", "/": "<title>Domicile</title>", "/workspaces/any": "<title>Domicile</title>"} {
		status, body := get(t, path)
		assert.Equal(t, http.StatusOK, status, path)
		assert.Contains(t, body, says, path)
	}
	closed, _ := get(t, "/metrics")
	assert.Equal(t, http.StatusUnauthorized, closed, "what goes on here is an administrator's")
	for who, want := range map[*person]int{skipper: http.StatusOK, finn: http.StatusForbidden} {
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, world.Service.URL+"/metrics", nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+who.token)
		r, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		r.Body.Close()
		assert.Equal(t, want, r.StatusCode, who.name)
	}
	status, code := skipper.request(t, "GET", "/api/v1/nothing", "")
	assert.Equal(t, http.StatusNotFound, status)
	assert.Equal(t, "no-such-path", code)
	for _, file := range []string{"service", "service/ssh_host_ed25519_key", "service/sockets"} {
		info, err := os.Stat(filepath.Join(world.Folder(), file))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, "%s is the service's alone", file)
	}
}

func TestAnotherPagesRequestsAreRefused(t *testing.T) {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, world.Service.URL+"/api/v1/workspaces", strings.NewReader(`{"source":"/"}`))
	require.NoError(t, err)
	r.Header.Set("Origin", "http://elsewhere.skerry.test")
	r.AddCookie(&http.Cookie{Name: "domicile_session", Value: skipper.token})
	a, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	a.Body.Close()
	assert.Equal(t, http.StatusForbidden, a.StatusCode)
}

func TestKeys(t *testing.T) {
	cases := map[string]string{
		skipper.key:          "is a private key, which must stay with you",
		"testdata/empty":     "read the key",
		skipper.key + ".pub": "An account has the key SHA256:",
	}
	for file, says := range cases {
		a := finn.domicile(t, "keys", "add", file)
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, says)
	}
	assert.Contains(t, finn.domicile(t, "keys").out, "ssh-ed25519")
	assert.Equal(t, 1, finn.domicile(t, "keys", "remove", "1").status, "another's key is not there for finn")
	status, code := finn.request(t, "POST", "/api/v1/keys", `{"publicKey":"ssh-rsa nonsense"}`)
	assert.Equal(t, http.StatusBadRequest, status)
	assert.Equal(t, "bad-key", code)
}

func TestSignInAndOut(t *testing.T) {
	guest := &person{login: filepath.Join(t.TempDir(), "login.json")}
	status, code := guest.request(t, "POST", "/api/v1/session", `{"name":"finn","password":"wrong-password"}`)
	assert.Equal(t, http.StatusUnauthorized, status)
	assert.Equal(t, "wrong-password", code)
	unknown, _ := guest.request(t, "POST", "/api/v1/session", `{"name":"nobody","password":"wrong-password"}`)
	assert.Equal(t, status, unknown, "an unknown name looks like a wrong password")
	status, code = guest.request(t, "POST", "/api/v1/setup", `{"code":"skerry-setup","name":"second","password":"another-captain"}`)
	assert.Equal(t, http.StatusConflict, status)
	assert.Equal(t, "setup-done", code)
	refused := finish(t, guest.command(t.Context(), "nonsense\n", "login", "-server", world.Service.URL).Cmd)
	assert.Contains(t, refused.err, "no valid token")
	assert.Contains(t, refused.err, "a password is typed in at a terminal")

	made, err := client.Answer[client.Token](finn.api.AddToken(t.Context(), client.NewToken{Label: "a program"}))
	require.NoError(t, err)
	assert.Contains(t, finish(t, guest.command(t.Context(), made.Token+"\n", "login", "-server", world.Service.URL).Cmd).out, "as finn")
	assert.Equal(t, 0, guest.domicile(t, "list").status)
	assert.Equal(t, 0, guest.domicile(t, "logout").status)
	assert.NoFileExists(t, guest.login)
	guest.token = made.Token
	status, _ = guest.request(t, "GET", "/api/v1/account", "")
	assert.Equal(t, http.StatusUnauthorized, status, "the token has ended")
}

// On a terminal the steps are drawn live; Ctrl-C leaves, and the run goes on.
func TestLeavingARunWithCtrlC(t *testing.T) {
	source := publish(t, "patient", `{ "image": "BASE", "remoteUser": "crew", "onCreateCommand": "sleep 2; echo over" }`, nil)
	t.Cleanup(func() { skipper.remove(t, "patient") })
	c := skipper.command(t.Context(), "", "provision", source, "-name", "patient").Cmd
	c.Stdin = nil // the terminal
	f, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(t, err)
	defer f.Close()
	seen, left := "", false
	for b := make([]byte, 4096); ; {
		n, err := f.Read(b)
		seen += string(b[:n])
		if !left && strings.Contains(seen, "Run onCreateCommand") {
			left = true
			require.NoError(t, c.Process.Signal(syscall.SIGINT))
		}
		if err != nil {
			break
		}
	}
	_ = c.Wait()
	assert.Equal(t, 130, c.ProcessState.ExitCode(), seen)
	assert.Contains(t, seen, "domicile follow patient")
	assert.Contains(t, seen, "\x1b[", "it is redrawn in place")
	a := skipper.domicile(t, "follow", "patient")
	assert.Equal(t, 0, a.status, a.err)
	assert.Contains(t, a.err, "over")
	assert.Contains(t, a.out, "patient is ready")
}

func TestAnOrderlyStopLosesNothing(t *testing.T) {
	source := publish(t, "survivor", survivor, nil)
	require.Equal(t, 0, skipper.provision(t, source, "orderly", "-detach").status)
	eventually(t, 30*time.Second, "a command runs", func() bool {
		run := skipper.workspace(t, "orderly").Run
		for _, s := range run.Steps {
			if s.Name == "onCreateCommand" && s.State == client.StepStateRunning {
				return true
			}
		}
		return false
	})
	begun := time.Now()
	world.Service.Stop()
	t.Logf("stopped in %s", time.Since(begun))
	require.NoError(t, world.StartService(t.Context()))
	a := skipper.domicile(t, "follow", "orderly")
	require.Equal(t, 0, a.status, a.err)
	stages := strings.Fields(skipper.domicile(t, "run", "orderly", "--", "sort", "/home/crew/stages").out)
	assert.Equal(t, []string{"onCreate", "one", "postStart", "two"}, stages)
}

func TestRemovingWhileItIsMade(t *testing.T) {
	source := publish(t, "survivor", survivor, nil)
	require.Equal(t, 0, skipper.provision(t, source, "regretted", "-detach").status)
	a := skipper.domicile(t, "remove", "regretted", "-yes")
	require.Equal(t, 0, a.status, a.err)
	eventually(t, 20*time.Second, "nothing is left", func() bool { return len(objects(t)) == 0 })
}
