package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"domicile/internal/fault"
)

// Dump writes a database into a file, in pg_dump's custom form. The file is there whole or not at all,
// and its owner alone reads it. bin has PostgreSQL's programs; empty: those in PATH.
func Dump(ctx context.Context, bin, address, file string) error {
	f, err := os.CreateTemp(filepath.Dir(file), ".dump-")
	if err != nil {
		return fmt.Errorf("make the file of the dump: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	cmd := program(ctx, bin, "pg_dump", address, "--format=custom", "--no-owner", "--no-privileges")
	cmd.Stdout = f
	if err := say(cmd, "write the database into a file"); err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write the database into a file: %w", err)
	}
	return os.Rename(f.Name(), file)
}

// Restore fills an empty database from what Dump wrote, all or nothing.
func Restore(ctx context.Context, bin, address, file string) error {
	cmd := program(ctx, bin, "pg_restore", address, "--no-owner", "--no-privileges", "--single-transaction", "--exit-on-error", file)
	return say(cmd, "bring the database back")
}

// program calls one of PostgreSQL's. The address is in its environment: every user of a machine sees
// the arguments of its programs.
func program(ctx context.Context, bin, name, address string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, filepath.Join(bin, name), args...)
	c, err := pgconn.ParseConfig(address)
	if err != nil {
		cmd.Err = err
		return cmd
	}
	cmd.Args = append(cmd.Args, "--dbname="+c.Database)
	cmd.Env = append(os.Environ(), "PGHOST="+c.Host, fmt.Sprintf("PGPORT=%d", c.Port), "PGUSER="+c.User, "PGPASSWORD="+c.Password)
	if u, err := url.Parse(address); err == nil && u.Query().Has("sslmode") {
		cmd.Env = append(cmd.Env, "PGSSLMODE="+u.Query().Get("sslmode"))
	}
	return cmd
}

func say(cmd *exec.Cmd, doing string) error {
	var said bytes.Buffer
	cmd.Stderr = &said
	err := cmd.Run()
	if errors.Is(err, exec.ErrNotFound) {
		return fault.Wrap(err, "no-postgres", "apt-get install postgresql-client", "cannot %s: %s is not installed", doing, filepath.Base(cmd.Path))
	}
	if err != nil {
		return fmt.Errorf("%s: %w: %s", doing, err, strings.TrimSpace(said.String()))
	}
	return nil
}

// Bin is where the programs of the server's version are.
func (s *Server) Bin() string { return s.bin }

// AtWork is the server of a folder that runs already. Whoever has it does not end it.
func AtWork(folder string) (*Server, error) {
	s := &Server{folder: folder}
	var err error
	if s.bin, err = programsFor(s.data()); err != nil {
		return nil, err
	}
	b, err := os.ReadFile(filepath.Join(folder, "password"))
	if err != nil {
		return nil, fault.Wrap(err, "database-closed", "call this as the service's user, or as root", "the password of PostgreSQL's data in %s cannot be read", folder)
	}
	s.password = strings.TrimSpace(string(b))
	return s, nil
}

// Dump writes the service's database into a file.
func (s *Server) Dump(ctx context.Context, file string) error {
	return Dump(ctx, s.bin, s.URL(), file)
}

// Restore fills the service's database, which must be empty, from what Dump wrote.
func (s *Server) Restore(ctx context.Context, file string) error {
	return Restore(ctx, s.bin, s.URL(), file)
}
