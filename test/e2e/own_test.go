package e2e

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/client"
	"domicile/internal/daemons"
	"domicile/internal/postgres"
	"domicile/internal/scenario"
)

// own is a service as somebody starts it who has named no database.
type own struct {
	program      string              // empty: the one that was built
	as           *syscall.Credential // nil: this user
	data, config string
	web, ssh     string // host:port
	said         string // a file with what it said
	running      *exec.Cmd
}

// newOwn writes the settings of one into a file, and starts nothing.
func newOwn(t testing.TB) *own {
	t.Helper()
	folder, err := os.MkdirTemp("", "domicile-own-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o711)) // PostgreSQL's user must pass
	o := &own{data: filepath.Join(folder, "data"), config: filepath.Join(folder, "settings.toml"), said: filepath.Join(folder, "said")}
	for _, at := range []*string{&o.web, &o.ssh} {
		port, err := daemons.FreePort(0)
		require.NoError(t, err)
		*at = fmt.Sprintf("127.0.0.1:%d", port)
	}
	o.settings(t, fmt.Sprintf("http = %q\nssh = %q\nengine = {quay = %q}\noutside = [%q, %q, \"127.0.0.1\"]\ntries = 4\n", o.web, o.ssh, world.EngineAt, world.RegistryAt, strings.TrimPrefix(world.GitAt, "http://")))
	t.Cleanup(func() { o.kill() })
	return o
}

func (o *own) settings(t testing.TB, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(o.config, []byte(text), 0o600))
}

func (o *own) command(ctx context.Context, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, cmp.Or(o.program, filepath.Join(programs, "domicile")), append(args, "-config", o.config, "-data", o.data)...)
	c.Env = append(os.Environ(), "DOMICILE_SETUP_CODE="+scenario.SetupCode)
	if o.as != nil {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: o.as}
	}
	return c
}

// start starts it and waits until it is ready.
func (o *own) start(t testing.TB, args ...string) {
	t.Helper()
	said, err := os.OpenFile(o.said, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	defer said.Close()
	o.running = o.command(context.WithoutCancel(t.Context()), append([]string{"serve"}, args...)...)
	o.running.Stdout, o.running.Stderr = said, said
	require.NoError(t, o.running.Start())
	if !assert.Eventually(t, o.ready, 60*time.Second, 10*time.Millisecond, "it is ready") {
		b, err := os.ReadFile(o.said)
		require.NoError(t, err)
		require.FailNow(t, "it said", string(b[max(0, len(b)-2000):]))
	}
}

func (o *own) ready() bool {
	r, err := http.Get("http://" + o.web + "/readyz")
	if err != nil {
		return false
	}
	defer r.Body.Close()
	return r.StatusCode == http.StatusOK
}

// end ends it by a signal.
func (o *own) end(t testing.TB, by syscall.Signal) {
	t.Helper()
	require.NoError(t, o.running.Process.Signal(by))
	_ = o.running.Wait()
}

// database is the process of its PostgreSQL; 0: none runs.
func (o *own) database() int {
	b, err := os.ReadFile(filepath.Join(o.data, "database", "data", "postmaster.pid"))
	if err != nil {
		return 0
	}
	first, _, _ := strings.Cut(string(b), "\n")
	id, _ := strconv.Atoi(first)
	if syscall.Kill(id, 0) != nil {
		return 0
	}
	return id
}

func (o *own) kill() {
	if o.running != nil && o.running.Process != nil {
		_ = o.running.Process.Kill()
		_ = o.running.Wait()
	}
	if id := o.database(); id > 1 {
		_ = syscall.Kill(id, syscall.SIGQUIT)
	}
}

// mate makes the first account, by the link's code.
func (o *own) mate(t *testing.T) *person {
	t.Helper()
	return firstAccount(t, "http://"+o.web, scenario.SetupCode)
}

// A service without a database that somebody set up: from nothing to a workspace, killed at any moment,
// put into a file, lost, and brought back.
func TestAServiceOfOnesOwn(t *testing.T) {
	t.Parallel()
	o := newOwn(t)
	o.start(t)
	mate := o.mate(t)
	source := publish(t, "ownboard", `{"image": "BASE", "remoteUser": "crew"}`, nil)
	a := mate.domicile(t, "provision", source, "-name", "board")
	require.Equal(t, 0, a.status, a.out+a.err)
	t.Cleanup(func() { mate.remove(t, "board") })
	assert.Equal(t, "quay", mate.workspace(t, "board").Site)

	t.Run("another one does not come in beside it", func(t *testing.T) {
		a := finish(t, o.command(t.Context(), "serve"))
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, fmt.Sprintf("the data folder %s is another service's: process %d since", o.data, o.running.Process.Pid))
		assert.Contains(t, a.err, "What to do: end that one first")
	})
	known := filepath.Join(t.TempDir(), "known")
	_, port, _ := strings.Cut(o.ssh, ":")
	enter := func() answer {
		c := exec.CommandContext(t.Context(), "ssh", "-F", "none", "-i", mate.key, "-o", "IdentitiesOnly=yes", "-o", "UserKnownHostsFile="+known, "-o", "StrictHostKeyChecking=yes", "-o", "LogLevel=ERROR", "-p", port, "board@127.0.0.1", "hostname")
		return finish(t, c)
	}
	keys := finish(t, exec.CommandContext(t.Context(), "ssh-keyscan", "-p", port, "127.0.0.1"))
	require.NoError(t, os.WriteFile(known, []byte(keys.out), 0o600))
	a = enter()
	require.Equal(t, "board\n", a.out, a.err)

	t.Run("killed with its database or without, nothing is lost and there is one database", func(t *testing.T) {
		for i := range 20 {
			out, err := mate.command(t.Context(), "low water", "secrets", "set", fmt.Sprintf("TIDE_%d", i), "-for", source).output()
			require.NoError(t, err, out)
			before := o.database()
			if i%2 == 0 {
				require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
			}
			<-time.After(time.Duration(rand.IntN(60)) * time.Millisecond)
			o.end(t, syscall.SIGKILL)
			o.start(t)
			if i%2 == 1 {
				assert.Equal(t, before, o.database(), "found again")
			}
			require.Eventually(t, func() bool { return servers(t, o.data) == 1 }, 10*time.Second, 10*time.Millisecond, "one database; PostgreSQL itself refuses another that is just tried")
		}
		assert.Equal(t, 20, strings.Count(mate.domicile(t, "secrets").out, "TIDE_"))
		assert.Equal(t, "board\n", enter().out)
	})
	file, last := filepath.Join(t.TempDir(), "skerry.backup"), mate.workspace(t, "board").Run.Id
	t.Run("into a file, while it runs", func(t *testing.T) {
		a := finish(t, o.command(t.Context(), "backup", file))
		require.Equal(t, 0, a.status, a.out+a.err)
		assert.Contains(t, a.out, "disks are not in it")
		assert.Contains(t, finish(t, o.command(t.Context(), "backup", file)).err, "is there already")
		assert.True(t, o.ready())
	})
	t.Run("stopped, it leaves nothing running, and goes into a file as well", func(t *testing.T) {
		o.end(t, syscall.SIGTERM)
		assert.Zero(t, servers(t, o.data))
		a := finish(t, o.command(t.Context(), "backup", file+".2"))
		require.Equal(t, 0, a.status, a.out+a.err)
		assert.Zero(t, servers(t, o.data))
	})
	t.Run("all gone, and back", func(t *testing.T) {
		a := finish(t, o.command(t.Context(), "serve", "-restore", file))
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, "nothing is written over")
		require.NoError(t, os.RemoveAll(o.data))
		// One that is cut says so, and is begun anew.
		require.NoError(t, os.Mkdir(o.data, 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(o.data, "domicile-data"), nil, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(o.data, "bringing-back"), []byte(file), 0o600))
		a = finish(t, o.command(t.Context(), "serve"))
		assert.Equal(t, 1, a.status)
		assert.Contains(t, a.err, "was cut")
		assert.Contains(t, a.err, "domicile serve -restore "+file)
		o.start(t, "-restore", file)
		require.Eventually(t, func() bool {
			board := mate.workspace(t, "board")
			return board.Run.Id != last && board.State == client.WorkspaceStateReady
		}, 60*time.Second, 200*time.Millisecond, "it is joined to the service again by itself")
		a = enter()
		assert.Equal(t, "board\n", a.out, "the same host key: %s", a.err)
		assert.Equal(t, 20, strings.Count(mate.domicile(t, "secrets").out, "TIDE_"))
		assert.Equal(t, client.WorkspaceStateReady, mate.workspace(t, "board").State)
	})
}

// Before the records of an earlier version are changed, they are kept as they were.
func TestRecordsAreKeptBeforeTheyAreChanged(t *testing.T) {
	t.Parallel()
	o := newOwn(t)
	o.start(t)
	o.mate(t)
	o.end(t, syscall.SIGTERM)
	kept := func() []string {
		t.Helper()
		list, err := filepath.Glob(filepath.Join(o.data, "dumps", "before-*.dump"))
		require.NoError(t, err)
		return list
	}
	assert.Empty(t, kept(), "there was nothing to change")
	earlier := func(question string) {
		t.Helper()
		s, err := postgres.Open(t.Context(), filepath.Join(o.data, "database"), slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		conn, err := pgx.Connect(t.Context(), s.URL())
		require.NoError(t, err)
		_, err = conn.Exec(t.Context(), question)
		require.NoError(t, err)
		require.NoError(t, conn.Close(t.Context()))
		require.NoError(t, s.Close())
	}
	// The last change is undone.
	changes, err := filepath.Glob("../../internal/records/migrations/*.sql")
	require.NoError(t, err)
	last, err := os.ReadFile(changes[len(changes)-1]) // in the order of their numbers
	require.NoError(t, err)
	_, undo, _ := strings.Cut(string(last), "-- +goose Down\n")
	earlier(undo + "DELETE FROM goose_db_version WHERE version_id = (SELECT max(version_id) FROM goose_db_version)")
	o.start(t)
	require.Len(t, kept(), 1)
	info, err := os.Stat(kept()[0])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	list, err := exec.CommandContext(t.Context(), "pg_restore", "--list", kept()[0]).CombinedOutput()
	require.NoError(t, err, string(list))
	assert.Contains(t, string(list), "TABLE DATA public accounts")
	made := regexp.MustCompile(`CREATE TABLE (\w+)`).FindSubmatch(last)
	if made != nil { // else the last change made no table
		assert.NotContains(t, string(list), "public "+string(made[1]))
	}
	o.end(t, syscall.SIGTERM)

	earlier("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)")
	a := finish(t, o.command(t.Context(), "serve"))
	assert.Equal(t, 1, a.status)
	assert.Contains(t, a.err, "the records are of a newer version (9999) than this service knows")
	assert.Len(t, kept(), 1, "nothing is touched")
	assert.Zero(t, servers(t, o.data), "its database ends with it")
}

// Root puts the service of another user into a file, and that one goes on as it was.
func TestRootLooksAfterAnothersService(t *testing.T) {
	t.Parallel()
	const user = 65534 // nobody: PostgreSQL wants one that has a name
	o := newOwn(t)
	require.NoError(t, os.Mkdir(o.data, 0o700))
	require.NoError(t, os.Chown(o.data, user, user))
	require.NoError(t, os.Chmod(o.config, 0o644))
	o.as = &syscall.Credential{Uid: user, Gid: user, Groups: []uint32{0}}
	o.start(t)
	token := o.mate(t).token
	file := filepath.Join(t.TempDir(), "kept")
	root := func(args ...string) answer {
		t.Helper()
		return finish(t, exec.CommandContext(t.Context(), filepath.Join(programs, "domicile"), append(args, "-config", o.config, "-data", o.data)...))
	}
	a := root("backup", file)
	require.Equal(t, 0, a.status, a.out+a.err)
	assert.Contains(t, root("serve", "-check").out, "is another service's: process ")
	o.end(t, syscall.SIGTERM)
	a = root("backup", file+".2")
	require.Equal(t, 0, a.status, a.out+a.err)
	assert.Equal(t, 0, root("serve", "-check").status)
	strange := finish(t, exec.CommandContext(t.Context(), "find", o.data, "-not", "-user", strconv.Itoa(user)))
	assert.Empty(t, strange.out, "nothing of it became root's")
	o.start(t)
	c, err := client.Open("http://"+o.web, token)
	require.NoError(t, err)
	me, err := client.Answer[client.Account](c.GetAccount(t.Context()))
	require.NoError(t, err)
	assert.Equal(t, "mate", me.Name)
	assert.NoFileExists(t, filepath.Join(o.data, "first-link"), "it counted once")
	o.end(t, syscall.SIGTERM)
}

// servers counts the PostgreSQL servers that work on a data folder.
func servers(t *testing.T, data string) (n int) {
	t.Helper()
	list, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, file := range list {
		b, _ := os.ReadFile(file) // one that has ended meanwhile is none
		if args := strings.Split(string(b), "\x00"); strings.HasSuffix(args[0], "/bin/postgres") && strings.Contains(string(b), filepath.Join(data, "database")) {
			n++
		}
	}
	return n
}

func TestWhatAServiceIsStartedWith(t *testing.T) {
	t.Parallel()
	o := newOwn(t)
	good, err := os.ReadFile(o.config)
	require.NoError(t, err)
	refused := func(says, remedy string, args ...string) {
		t.Helper()
		a := finish(t, o.command(t.Context(), append([]string{"serve"}, args...)...))
		assert.NotEqual(t, 0, a.status)
		assert.Contains(t, a.err, says)
		assert.Contains(t, a.err, remedy)
		assert.NoDirExists(t, o.data, "nothing is made")
	}
	for _, x := range []struct{ text, says, remedy string }{
		{"# the quay\nhtpp = \"127.0.0.1:1\"\n", "settings.toml:2: there is no setting htpp", "write http"},
		{"idle_stop = \"4h\"\n", ":1: there is no setting idle_stop", "write idle-stop"},
		{"puffin = 1\n", "there is no setting puffin", "domicile serve -h"},
		{"http = \n", "settings.toml:1:", "write it as TOML"},
		{"workers = \"many\"\n", "workers cannot be \"many\"", "domicile serve -h"},
		{"sizes = [1]\n", "a list of texts is wanted", ""},
		{"restore = \"x\"\n", "there is no setting restore", ""},
	} {
		o.settings(t, x.text)
		refused(x.says, x.remedy)
	}
	o.settings(t, string(good))

	t.Run("flags before variables before the file", func(t *testing.T) {
		c := o.command(t.Context(), "serve", "-check", "-allow", "privileged")
		c.Env = append(c.Env, "DOMICILE_ALLOW=all", "DOMICILE_SIZES=tiny=1:1gb", "DOMICILE_WORKERS=3")
		a := finish(t, c)
		assert.Equal(t, 0, a.status, a.out+a.err)
		assert.Regexp(t, `good +allow +privileged\n`, a.out)
		assert.Regexp(t, `good +sizes +tiny=1:1gb\n`, a.out)
		assert.Regexp(t, `good +http +`+o.web, a.out)
		assert.Contains(t, a.out, "can be started with this")
		assert.NoDirExists(t, o.data, "a check makes nothing")
		c = o.command(t.Context(), "serve", "-check")
		c.Env = append(c.Env, "DOMICILE_WORKERS=many")
		assert.Contains(t, finish(t, c).err, `DOMICILE_WORKERS is "many"`)
	})
	t.Run("a check tells all that is wrong", func(t *testing.T) {
		foreign := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(foreign, "letters"), nil, 0o600))
		a := finish(t, o.command(t.Context(), "serve", "-check", "-http", strings.TrimPrefix(world.Service.URL, "http://"), "-engine", "unix:///nowhere.sock", "-sizes", "x", "-agent", "/nowhere",
			"-database", "postgres://nobody@127.0.0.1:1/x", "-outside", "?"))
		assert.Equal(t, 1, a.status)
		for _, what := range []string{"http", "engine", "sizes", "agent", "database", "outside"} {
			assert.Regexp(t, `(?m)^wrong  `+what+` `, a.out)
		}
		assert.Regexp(t, `(?m)^good   ssh `, a.out)
		assert.GreaterOrEqual(t, strings.Count(a.out, "What to do: "), 4, a.out)
		o.data = foreign
		assert.Contains(t, finish(t, o.command(t.Context(), "serve")).err, "is not Domicile's: it has letters")
	})
	t.Run("what is missing is said at once", func(t *testing.T) {
		c := o.command(t.Context(), "serve")
		c.Env = append(c.Env, "PATH=/nowhere")
		a := finish(t, c)
		assert.Contains(t, a.err, "this machine lacks what the service needs: git, ssh, ip")
		assert.Contains(t, a.err, "sudo apt-get install git openssh-client iproute2")
	})
}

// The first link leads to where people reach the console; what was left half done is gone after a day.
func TestWhatAServiceFindsAtItsStart(t *testing.T) {
	t.Parallel()
	o := newOwn(t)
	good, err := os.ReadFile(o.config)
	require.NoError(t, err)
	o.settings(t, string(good)+"url = \"https://quay.skerry.test/\"\nweb-domain = \"skerry-apps.test\"\n")
	o.start(t)
	o.end(t, syscall.SIGTERM)
	link, err := os.ReadFile(filepath.Join(o.data, "first-link"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(link), "https://quay.skerry.test/setup#"), string(link))
	for _, kind := range []string{"backup-", ".example-"} {
		old, fresh := filepath.Join(o.data, kind+"old"), filepath.Join(o.data, kind+"fresh")
		require.NoError(t, errors.Join(os.Mkdir(old, 0o700), os.Mkdir(fresh, 0o700)))
		yesterday := time.Now().Add(-25 * time.Hour)
		require.NoError(t, os.Chtimes(old, yesterday, yesterday))
	}
	o.start(t)
	for _, kind := range []string{"backup-", ".example-"} {
		assert.NoDirExists(t, filepath.Join(o.data, kind+"old"))
		assert.DirExists(t, filepath.Join(o.data, kind+"fresh"), "somebody may be at work on it")
	}
}
