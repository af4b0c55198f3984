// Package e2e tests Domicile as its users meet it: the service as a process on loopback,
// a real engine and database, OpenSSH's clients, the command line, and a real browser.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/scenario"
)

var (
	world    *scenario.World
	programs string
	skipper  *person // the administrator
	finn     *person // another account
)

func TestMain(m *testing.M) { os.Exit(setUp(m)) }

func setUp(m *testing.M) int {
	ctx := context.Background()
	folder, err := os.MkdirTemp("", "domicile-e2e-")
	if err != nil {
		return complain(err)
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o755); err != nil { // PostgreSQL's user must pass
		return complain(err)
	}
	if programs = os.Getenv("DOMICILE_PROGRAMS"); programs == "" {
		programs, _ = filepath.Abs("../../bin")
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		return complain(err)
	}
	world, err = scenario.Start(ctx, scenario.Options{Folder: folder, Cache: filepath.Join(cache, "domicile"), Programs: programs, OwnEngine: true, Outside: []string{"127.0.0.1"}, Serve: []string{"-tries", "4", "-tidy-after", "0s"},
		Say: func(s string) { fmt.Println("e2e:", s) }})
	if err != nil {
		return complain(err)
	}
	defer world.Close()
	if err := world.StartService(ctx); err != nil {
		return complain(err)
	}
	if err := people(ctx, folder); err != nil {
		return complain(err)
	}
	status := m.Run()
	if races := strings.Count(world.Service.Printed(), "WARNING: DATA RACE"); races > 0 {
		return complain(fmt.Errorf("the service's race detector found %d races:\n%s", races, world.Service.Printed()))
	}
	return status
}

func complain(err error) int {
	fmt.Fprintln(os.Stderr, "e2e: cannot set up:", err)
	return 1
}

// person is an account with its command line and SSH key.
type person struct {
	name, password, token string
	login, key            string   // files
	env                   []string // more of it
	api                   *client.Service
}

func people(ctx context.Context, folder string) error {
	c, err := client.Open(world.Service.URL, "")
	if err != nil {
		return err
	}
	skipper = &person{name: "skipper", password: "tide-and-timetable"}
	t, err := client.Answer[client.Token](c.MakeFirstAccount(ctx, client.FirstAccount{Code: scenario.SetupCode, Name: skipper.name, Password: skipper.password}))
	if err != nil {
		return err
	}
	if err := skipper.settle(ctx, folder, t.Token); err != nil {
		return err
	}
	finn = &person{name: "finn", password: "gannet-on-the-rock"}
	if _, err := client.Answer[client.Account](skipper.api.AddAccount(ctx, client.NewAccount{Name: finn.name, Password: finn.password})); err != nil {
		return err
	}
	if t, err = client.Answer[client.Token](c.SignIn(ctx, client.Credentials{Name: finn.name, Password: finn.password})); err != nil {
		return err
	}
	return finn.settle(ctx, folder, t.Token)
}

// anotherPerson is one more account, for a test that needs a crowd.
func anotherPerson(t *testing.T, name string) *person {
	t.Helper()
	p := &person{name: name, password: "all-hands-on-deck"}
	_, err := client.Answer[client.Account](skipper.api.AddAccount(t.Context(), client.NewAccount{Name: p.name, Password: p.password}))
	require.NoError(t, err)
	c, err := client.Open(world.Service.URL, "")
	require.NoError(t, err)
	token, err := client.Answer[client.Token](c.SignIn(t.Context(), client.Credentials{Name: p.name, Password: p.password}))
	require.NoError(t, err)
	require.NoError(t, p.settle(t.Context(), t.TempDir(), token.Token))
	return p
}

// settle signs the person in and adds a key, both by the command line.
func (p *person) settle(ctx context.Context, folder, token string) (err error) {
	p.token, p.login, p.key = token, filepath.Join(folder, p.name+".json"), filepath.Join(folder, p.name+"_key")
	if p.api, err = client.Open(world.Service.URL, token); err != nil {
		return err
	}
	if out, err := exec.CommandContext(ctx, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", p.name, "-f", p.key).CombinedOutput(); err != nil {
		return fmt.Errorf("ssh-keygen: %w: %s", err, out)
	}
	if out, err := p.command(ctx, token+"\n", "login", "-server", world.Service.URL).output(); err != nil {
		return fmt.Errorf("login: %w: %s", err, out)
	}
	if out, err := p.command(ctx, "", "keys", "add", p.key+".pub").output(); err != nil {
		return fmt.Errorf("keys add: %w: %s", err, out)
	}
	return nil
}

type invocation struct{ *exec.Cmd }

func (i invocation) output() (string, error) {
	b, err := i.CombinedOutput()
	return string(b), err
}

// command is a call of the command line as this person.
func (p *person) command(ctx context.Context, in string, args ...string) invocation {
	c := exec.CommandContext(ctx, filepath.Join(programs, "domicile"), args...)
	c.Env = append(append(os.Environ(), "DOMICILE_LOGIN_FILE="+p.login), p.env...)
	c.Stdin = strings.NewReader(in)
	return invocation{c}
}

// answer is how a call of a program ended.
type answer struct {
	out, err string
	status   int
}

func (p *person) domicile(t *testing.T, args ...string) answer {
	t.Helper()
	return finish(t, p.command(t.Context(), "", args...).Cmd)
}

// ssh calls OpenSSH's client with options that keep this machine's own settings out.
func (p *person) ssh(t *testing.T, in string, args ...string) answer {
	t.Helper()
	c := exec.CommandContext(t.Context(), "ssh", append(p.sshOptions("-p"), args...)...)
	c.Stdin = strings.NewReader(in)
	return finish(t, c)
}

// sshAt comes in to another service than the world's, at host:port; of two ports ssh takes the first.
func (p *person) sshAt(t *testing.T, address string, args ...string) answer {
	t.Helper()
	host, port, _ := strings.Cut(address, ":")
	args[0] += "@" + host
	return finish(t, exec.CommandContext(t.Context(), "ssh", append(append([]string{"-p", port}, p.sshOptions("-p")...), args...)...))
}

func (p *person) sshOptions(port string) []string {
	_, number, _ := strings.Cut(world.Service.SSH, ":")
	return []string{"-F", "none", "-i", p.key, "-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-o", "StrictHostKeyChecking=no",
		"-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", port, number}
}

func finish(t *testing.T, c *exec.Cmd) answer {
	t.Helper()
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	if c.ProcessState == nil {
		require.NoError(t, err)
	}
	return answer{out.String(), errs.String(), c.ProcessState.ExitCode()}
}

// provision makes a workspace and removes it at the test's end.
func (p *person) provision(t *testing.T, source, name string, more ...string) answer {
	t.Helper()
	a := p.domicile(t, append([]string{"provision", source, "-name", name}, more...)...)
	t.Cleanup(func() { p.remove(t, name) })
	return a
}

func (p *person) remove(t *testing.T, name string) {
	c := p.command(context.WithoutCancel(t.Context()), "", "remove", name, "-yes")
	if out, err := c.output(); err != nil && !strings.Contains(out, "no workspace") {
		t.Errorf("remove %s: %v: %s", name, err, out)
	}
}

// workspace asks the service for a workspace.
func (p *person) workspace(t *testing.T, name string) client.Workspace {
	t.Helper()
	w, err := client.Answer[client.Workspace](p.api.GetWorkspace(t.Context(), name))
	require.NoError(t, err)
	return w
}

// eventually waits for a condition by asking again and again.
func eventually(t *testing.T, limit time.Duration, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, limit, 50*time.Millisecond, "%s; the service said:\n%s", what, world.Service.LastWords())
}

func repository(name string) string { return world.GitAt + "/skerry/" + name + ".git" }

// publish puts a repository with this definition, and more files, on the git host.
func publish(t *testing.T, name, definition string, more map[string]string) string {
	t.Helper()
	named := strings.NewReplacer("BASE", world.RegistryAt+"/skerry/base:12").Replace
	files := mapFiles(named(definition))
	for path, text := range more {
		files[path] = &fstest.MapFile{Data: []byte(named(text))}
	}
	require.NoError(t, world.Git.Put(t.Context(), "test/"+name, files, func(s string) string { return s }))
	return world.GitAt + "/test/" + name + ".git"
}

func mapFiles(definition string) fstest.MapFS {
	return fstest.MapFS{".devcontainer/devcontainer.json": {Data: []byte(definition)}}
}

// request sends a raw request as a person and gives the status and the problem's code.
func (p *person) request(t *testing.T, method, path string, body string) (int, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, world.Service.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	if p != nil {
		r.Header.Set("Authorization", "Bearer "+p.token)
	}
	a, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer a.Body.Close()
	b, err := io.ReadAll(a.Body)
	require.NoError(t, err)
	var problem client.Problem
	_ = json.Unmarshal(b, &problem) // a good answer has another form
	return a.StatusCode, problem.Code
}
