package daemons

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"

	"github.com/jackc/pgx/v5"

	"domicile/internal/fault"
)

// Postgres is a PostgreSQL server of our own.
type Postgres struct {
	URL    string
	folder string
	port   int
	owner  *syscall.SysProcAttr
	daemon *daemon
}

// StartPostgres starts PostgreSQL with its data below folder, on a free port of loopback.
// The data is made the first time and kept.
func StartPostgres(ctx context.Context, folder string) (*Postgres, error) {
	bin, err := postgresPrograms()
	if err != nil {
		return nil, err
	}
	p := &Postgres{folder: filepath.Join(folder, "postgres")}
	if p.owner, err = postgresOwner(); err != nil {
		return nil, err
	}
	password, err := p.initialise(ctx, bin)
	if err != nil {
		return nil, err
	}
	if p.port, err = FreePort(0); err != nil {
		return nil, err
	}
	p.URL = fmt.Sprintf("postgres://domicile:%s@127.0.0.1:%d/postgres?sslmode=disable", password, p.port)
	return p, p.Start(ctx)
}

// Start starts the server again after Stop, at the same address.
func (p *Postgres) Start(ctx context.Context) error {
	bin, err := postgresPrograms()
	if err != nil {
		return err
	}
	cmd := exec.Command(filepath.Join(bin, "postgres"), "-D", filepath.Join(p.folder, "data"), "-p", strconv.Itoa(p.port), "-h", "127.0.0.1", "-k", "")
	owner := *p.owner
	cmd.SysProcAttr = &owner
	cmd.Dir = "/"
	p.daemon, err = start(ctx, p.folder, "postgres", cmd, func(ctx context.Context) error {
		conn, err := pgx.Connect(ctx, p.URL)
		if err != nil {
			return err
		}
		return conn.Close(ctx)
	})
	return err
}

// Stop stops the server, cutting its connections. The data stays.
func (p *Postgres) Stop() { p.daemon.stop(syscall.SIGINT) }

// postgresPrograms finds the newest version that Debian has installed.
func postgresPrograms() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil || len(found) == 0 {
		return "", fault.New("no-postgres", "apt-get install postgresql", "PostgreSQL is not installed")
	}
	sort.Slice(found, func(i, j int) bool {
		return len(found[i]) < len(found[j]) || (len(found[i]) == len(found[j]) && found[i] < found[j])
	})
	return found[len(found)-1], nil
}

// postgresOwner is who the server runs as: it refuses to run as root.
func postgresOwner() (*syscall.SysProcAttr, error) {
	if os.Getuid() != 0 {
		return &syscall.SysProcAttr{}, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fault.Wrap(err, "no-postgres", "apt-get install postgresql", "there is no user postgres to run PostgreSQL as")
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}, errors.Join(err1, err2)
}

// initialise makes the data the first time, with a password that only this folder knows.
func (p *Postgres) initialise(ctx context.Context, bin string) (password string, err error) {
	file := filepath.Join(p.folder, "password")
	if b, err := os.ReadFile(file); err == nil {
		return strings.TrimSpace(string(b)), nil
	}
	if err := os.RemoveAll(p.folder); err != nil { // what an interrupted start left
		return "", err
	}
	if err := os.MkdirAll(p.folder, 0o755); err != nil {
		return "", err
	}
	if c := p.owner.Credential; c != nil {
		if err := os.Chown(p.folder, int(c.Uid), int(c.Gid)); err != nil {
			return "", err
		}
		if err := passable(p.folder); err != nil {
			return "", err
		}
	}
	password = rand.Text()
	handed := filepath.Join(p.folder, "handed")
	if err := os.WriteFile(handed, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	defer os.Remove(handed)
	if c := p.owner.Credential; c != nil {
		if err := os.Chown(handed, int(c.Uid), int(c.Gid)); err != nil {
			return "", err
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", filepath.Join(p.folder, "data"), "-U", "domicile", "-E", "UTF8", "--locale=C.UTF-8",
		"--auth=scram-sha-256", "--pwfile="+handed, "--no-sync")
	cmd.SysProcAttr, cmd.Dir = p.owner, "/"
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("make PostgreSQL's data: %w: %s", err, out)
	}
	return password, os.WriteFile(file, []byte(password+"\n"), 0o600)
}

// passable checks that another user can pass the folders above.
func passable(folder string) error {
	for dir := filepath.Dir(folder); ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return err
		}
		if info.Mode()&0o001 == 0 && info.Mode().Type() == fs.ModeDir {
			return fault.New("folder-closed", "choose a folder whose parents others may pass, or chmod o+x "+dir,
				"PostgreSQL runs as the user postgres, who cannot pass the folder %s", dir)
		}
		if dir == "/" {
			return nil
		}
	}
}
