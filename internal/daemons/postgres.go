package daemons

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"

	"domicile/internal/postgres"

	"github.com/jackc/pgx/v5"
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
	bin, err := postgres.Newest()
	if err != nil {
		return nil, err
	}
	p := &Postgres{folder: filepath.Join(folder, "postgres")}
	if p.owner, err = postgres.Owner(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(p.folder, 0o755); err != nil {
		return nil, fmt.Errorf("make a folder for PostgreSQL: %w", err)
	}
	password, err := postgres.Initialise(ctx, p.folder, bin, p.owner, false)
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
	bin, err := postgres.Newest()
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
