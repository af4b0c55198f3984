package postgres

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
)

var quiet = slog.New(slog.DiscardHandler)

// folderFor is one that PostgreSQL's user reaches.
func folderFor(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "domicile-pg-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	require.NoError(t, os.Chmod(folder, 0o711))
	return filepath.Join(folder, "database")
}

func open(t *testing.T, folder string) *Server {
	t.Helper()
	s, err := Open(t.Context(), folder, quiet)
	require.NoError(t, err)
	return s
}

func (s *Server) does(t *testing.T, question string) string {
	t.Helper()
	var answer string
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		conn, err := pgx.Connect(t.Context(), s.URL())
		if !assert.NoError(c, err) {
			return
		}
		defer conn.Close(t.Context())
		err = conn.QueryRow(t.Context(), question).Scan(&answer)
		if errors.Is(err, pgx.ErrNoRows) {
			err = nil
		}
		assert.NoError(c, err)
	}, 30*time.Second, 20*time.Millisecond)
	return answer
}

func (s *Server) process(t *testing.T) int {
	t.Helper()
	p, err := s.find()
	require.NoError(t, err)
	require.NotNil(t, p)
	defer p.close()
	return p.id
}

// abandon is what becomes of it when the service is killed.
func (s *Server) abandon() {
	s.end()
	<-s.watched
}

func TestItIsFoundAgainAndEndsWithTheService(t *testing.T) {
	folder := folderFor(t)
	s := open(t, folder)
	assert.Equal(t, "domicile", s.does(t, "SELECT current_database()"))
	s.does(t, "CREATE TABLE crew (name text)")
	first := s.process(t)
	s.abandon()
	again := open(t, folder)
	assert.Equal(t, first, again.process(t), "not a second one")
	again.does(t, "INSERT INTO crew VALUES ('Ada')")
	require.NoError(t, again.Close())
	assert.NoFileExists(t, filepath.Join(folder, "data", "postmaster.pid"))
	third := open(t, folder)
	assert.Equal(t, "Ada", third.does(t, "SELECT name FROM crew"))
	assert.NotEqual(t, first, third.process(t))
	require.NoError(t, third.Close())

	t.Setenv("DOMICILE_METRICS_TOKEN", "the service's own")
	third = open(t, folder)
	seen, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", third.process(t)))
	require.NoError(t, err)
	assert.NotContains(t, string(seen), "DOMICILE", "it is given nothing of the service's own")
	require.NoError(t, third.Close())

	for _, file := range []string{"password", "data", "run"} {
		info, err := os.Stat(filepath.Join(folder, file))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, "%s is the server's and the service's alone", file)
	}
	if os.Getuid() == 0 {
		info, err := os.Stat(filepath.Join(folder, "data"))
		require.NoError(t, err)
		assert.NotZero(t, info.Sys().(*syscall.Stat_t).Uid, "it does not run as root")
	}
}

// The server and the service are killed in turn, at any moment: there is never a second server, and
// what was written stays.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	folder := folderFor(t)
	s := open(t, folder)
	s.does(t, "CREATE TABLE sailings (n int)")
	for i := range 8 {
		s.does(t, "INSERT INTO sailings VALUES (1) RETURNING 'x'")
		now := s.process(t)
		if i%2 == 0 {
			require.NoError(t, syscall.Kill(now, syscall.SIGKILL))
			if i%4 == 0 { // and the service in the same moment
				s.abandon()
				s = open(t, folder)
			}
		} else {
			s.abandon()
			ctx, cancel := context.WithTimeout(t.Context(), time.Duration(rand.IntN(30))*time.Millisecond)
			if half, err := Open(ctx, folder, quiet); err == nil { // one that is killed while it starts
				half.abandon()
			}
			cancel()
			s = open(t, folder)
			assert.Equal(t, now, s.process(t))
		}
		assert.Equal(t, strings.Repeat("1", i+1), s.does(t, "SELECT string_agg(n::text, '') FROM sailings"))
	}
	require.NoError(t, s.Close())
}

func TestADumpComesBack(t *testing.T) {
	t.Parallel()
	s := open(t, folderFor(t))
	defer s.Close()
	s.does(t, "CREATE TABLE crew (name text)")
	s.does(t, "INSERT INTO crew VALUES ('Ada')")
	file := filepath.Join(t.TempDir(), "dump")
	require.NoError(t, s.Dump(t.Context(), file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	other := open(t, folderFor(t))
	defer other.Close()
	require.NoError(t, other.Restore(t.Context(), file))
	assert.Equal(t, "Ada", other.does(t, "SELECT name FROM crew"))
	assert.ErrorContains(t, other.Restore(t.Context(), file), "bring the database back", "not into one that has something")
	assert.Error(t, Dump(t.Context(), s.bin, s.URL()+"x", filepath.Join(t.TempDir(), "nothing")))
}

func TestWhatIsRefused(t *testing.T) {
	t.Parallel()
	folder := folderFor(t)
	s := open(t, folder)
	require.NoError(t, s.Close())
	refused := func(code, says string) {
		t.Helper()
		_, err := Open(t.Context(), folder, quiet)
		assert.ErrorContains(t, err, says)
		assert.Equal(t, code, fault.Code(err))
		assert.NotEmpty(t, fault.Remedy(err))
	}
	version := filepath.Join(folder, "data", "PG_VERSION")
	kept, err := os.ReadFile(version)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(version, []byte("9\n"), 0o600))
	refused("database-version", "are PostgreSQL 9's, which is not installed here: there is ")
	require.NoError(t, os.WriteFile(version, []byte("tide\n"), 0o600))
	refused("database-version", "no data folder of PostgreSQL")
	require.NoError(t, os.WriteFile(version, kept, 0o600))

	password := filepath.Join(folder, "password")
	word, err := os.ReadFile(password)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(password, []byte("another\n"), 0o600))
	refused("database-closed", "does not take the password")
	require.NoError(t, os.Remove(password))
	refused("database-closed", "cannot be read")
	require.NoError(t, os.WriteFile(password, word, 0o600))
	again := open(t, folder) // nothing was lost by all that
	require.NoError(t, again.Close())

	long := filepath.Join(t.TempDir(), strings.Repeat("sea/", 30))
	_, err = Open(t.Context(), long, quiet)
	assert.ErrorContains(t, err, "too long for a socket")
	assert.NoDirExists(t, long)
	if os.Getuid() == 0 {
		closed := t.TempDir()
		require.NoError(t, os.Chmod(closed, 0o700))
		_, err = Open(t.Context(), filepath.Join(closed, "database"), quiet)
		assert.Equal(t, "folder-closed", fault.Code(err))
	}
}

// What an interrupted first start left is made anew.
func TestAFirstStartThatWasCut(t *testing.T) {
	t.Parallel()
	folder := folderFor(t)
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	_, err := Open(ctx, folder, quiet)
	require.Error(t, err)
	s := open(t, folder)
	assert.Equal(t, "domicile", s.does(t, "SELECT current_user::text"))
	require.NoError(t, s.Close())
}

// A number of a process that was given again is nobody's server.
func TestAnothersProcessIsNotTheServer(t *testing.T) {
	t.Parallel()
	folder := folderFor(t)
	s := open(t, folder)
	require.NoError(t, s.Close())
	file := filepath.Join(folder, "data", "postmaster.pid")
	require.NoError(t, os.WriteFile(file, []byte("1\n"), 0o600))
	p, err := s.find()
	require.NoError(t, err)
	assert.Nil(t, p)
	require.NoError(t, os.WriteFile(file, []byte(strings.TrimSpace(string(mine()))+"\n"), 0o600))
	p, err = s.find()
	require.NoError(t, err)
	assert.Nil(t, p)
	require.NoError(t, os.Remove(file))
}

// A killed server to whose end nobody has seen, as in a container whose first process sees to none, does
// not keep the next one from starting.
func TestOneThatIsDeadAndStillThere(t *testing.T) {
	t.Parallel()
	folder := folderFor(t)
	s := open(t, folder)
	s.does(t, "CREATE TABLE crew (name text)")
	require.NoError(t, s.Close())
	dead := exec.Command("true")
	require.NoError(t, dead.Start())
	require.Eventually(t, func() bool { return isDead(dead.Process.Pid) }, 10*time.Second, time.Millisecond)
	for _, file := range []string{filepath.Join(folder, "data", "postmaster.pid"), filepath.Join(folder, "run", socketName+".lock")} {
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "%d\n%s\n1\n5432\n\n\n\n", dead.Process.Pid, filepath.Join(folder, "data")), 0o644))
	}
	s = open(t, folder)
	s.does(t, "INSERT INTO crew VALUES ('Ada') RETURNING name")
	require.NoError(t, s.Close())
	// Nor does one that was killed while it made its files.
	for _, file := range []string{filepath.Join(folder, "data", "postmaster.pid"), filepath.Join(folder, "run", socketName+".lock")} {
		require.NoError(t, os.WriteFile(file, nil, 0o600))
		require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(-time.Minute)))
	}
	s = open(t, folder)
	assert.Equal(t, "Ada", s.does(t, "SELECT name FROM crew"))
	require.NoError(t, s.Close())
	require.NoError(t, dead.Wait())
	assert.False(t, isDead(os.Getpid()))
}

// What the server prints does not fill the disk, and it goes on printing.
func TestItsLogIsShortened(t *testing.T) {
	t.Parallel()
	s := open(t, folderFor(t))
	require.NoError(t, os.Truncate(s.logFile(), mostLog+1))
	s.shortenLog()
	conn, err := pgx.Connect(t.Context(), s.URL())
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), "SELECT nothing")
	require.Error(t, err)
	require.NoError(t, conn.Close(t.Context()))
	b, err := os.ReadFile(s.logFile())
	require.NoError(t, err)
	assert.Less(t, len(b), 4096)
	assert.Contains(t, string(b), `column "nothing" does not exist`)
	require.NoError(t, s.Close())
}

func mine() []byte {
	b, _ := os.Readlink("/proc/self")
	return []byte(b)
}
