// Package postgres keeps a PostgreSQL server of the service's own: Debian's programs on a data
// folder of ours, reached by a socket that only this folder has. The server outlives a service that is
// killed, is found again by the next one, and is started again when it ends by itself.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"domicile/internal/fault"
)

// Server is a server of the service's own.
type Server struct {
	folder   string
	bin      string
	owner    *syscall.SysProcAttr
	password string
	log      *slog.Logger

	end     context.CancelFunc // of watching over it
	watched chan struct{}
}

const (
	// name is the server's superuser and its database.
	name = "domicile"
	// readyLimit is how long the server may take until it answers: after a crash it reads its log first.
	readyLimit = 2 * time.Minute
	// stopLimit is how long it has to end.
	stopLimit = time.Minute
	// longestSocket is how long the path of a socket may be, in bytes (unix(7)).
	longestSocket = 107
	socketName    = ".s.PGSQL.5432"
)

// Open starts the server whose data are below folder, or finds it at work. The data are made the
// first time. The caller closes it.
func Open(ctx context.Context, folder string, log *slog.Logger) (*Server, error) {
	s := &Server{folder: folder, log: log}
	if socket := filepath.Join(s.sockets(), socketName); len(socket) > longestSocket {
		return nil, fault.New("bad-path", "choose a data folder with a shorter path with -data", "the path %s is too long for a socket", socket)
	}
	var err error
	if s.owner, err = Owner(); err != nil {
		return nil, err
	}
	if s.bin, err = programsFor(s.data()); err != nil {
		return nil, err
	}
	if err := s.prepare(ctx); err != nil {
		return nil, err
	}
	process, err := s.run(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.makeDatabase(ctx); err != nil {
		process.close()
		return nil, err
	}
	watch, end := context.WithCancel(context.WithoutCancel(ctx))
	s.end, s.watched = end, make(chan struct{})
	go s.keep(watch, process)
	return s, nil
}

func (s *Server) data() string    { return filepath.Join(s.folder, "data") }
func (s *Server) sockets() string { return filepath.Join(s.folder, "run") }

// URL is the address of the service's database.
func (s *Server) URL() string { return s.address(name) }

func (s *Server) address(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(name, s.password), Path: "/" + database}
	u.RawQuery = url.Values{"sslmode": {"disable"}, "host": {s.sockets()}}.Encode()
	return u.String()
}

// prepare makes the folders, and the data the first time. The folder stays the service's: what the
// server's user could put into it, a service that runs as root would follow.
func (s *Server) prepare(ctx context.Context) error {
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return fmt.Errorf("make a folder for PostgreSQL: %w", err)
	}
	if c := s.owner.Credential; c != nil { // who may pass it, and see nothing in it
		if err := errors.Join(os.Chown(s.folder, os.Getuid(), int(c.Gid)), os.Chmod(s.folder, 0o710)); err != nil {
			return fmt.Errorf("let PostgreSQL pass its folder: %w", err)
		}
	}
	if err := give(s.sockets(), s.owner); err != nil {
		return err
	}
	var err error
	s.password, err = Initialise(ctx, s.folder, s.bin, s.owner, true)
	return err
}

// give makes a folder that only the server's user opens.
func give(folder string, owner *syscall.SysProcAttr) error {
	err := os.Mkdir(folder, 0o700)
	if errors.Is(err, fs.ErrExist) {
		return nil // it was given when it was made
	}
	if c := owner.Credential; err == nil && c != nil {
		err = os.Lchown(folder, int(c.Uid), int(c.Gid))
	}
	if err != nil {
		return fmt.Errorf("make a folder for PostgreSQL: %w", err)
	}
	return nil
}

// run finds the server at work, or starts it, and waits until it answers.
func (s *Server) run(ctx context.Context) (*process, error) {
	ctx, cancel := context.WithTimeout(ctx, readyLimit)
	defer cancel()
	for {
		p, err := s.find()
		if err != nil {
			return nil, err
		}
		found := p != nil
		if found {
			s.log.Info("PostgreSQL is at work already", "process", p.id)
		} else if p, err = s.start(); err != nil {
			return nil, err
		}
		if err = s.ready(ctx, p); err == nil {
			return p, nil
		}
		p.close()
		// One that was killed may have been found in its last moment; nobody may have seen to its end yet;
		// and what it had begun may hold its memory for a moment longer.
		if !errors.Is(err, errEnded) || !found && !strings.Contains(err.Error(), "shared memory block") && !strings.Contains(err.Error(), "FATAL:  lock file") {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// errEnded is that the server ended before it answered.
var errEnded = errors.New("it ended at once")

// start starts the server.
func (s *Server) start() (*process, error) {
	if err := s.forgetDead(); err != nil {
		return nil, err
	}
	log, err := os.OpenFile(s.logFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("keep what PostgreSQL prints: %w", err)
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(s.bin, "postgres"), "-D", s.data(), "-k", s.sockets(), "-h", "", "-p", "5432",
		"-c", "shared_buffers=48MB", "-c", "max_connections=200", "-c", "logging_collector=off", "-c", "log_destination=stderr", "-c", "unix_socket_permissions=0700")
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.Env = "/", log, log, surroundings()
	attributes := *s.owner
	attributes.Setsid = true // it outlives a service that is killed, and hears no Ctrl-C
	cmd.SysProcAttr = &attributes
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start PostgreSQL: %w", err)
	}
	p, err := openProcess(cmd.Process.Pid)
	if err != nil {
		_ = cmd.Process.Kill()
		return nil, err
	}
	go func() { _ = cmd.Wait() }() // an ended one must not stay in the table of processes
	return p, nil
}

// surroundings are the server's variables: of the service's own, which have secrets in them, it gets none.
func surroundings() []string { return []string{"PATH=" + os.Getenv("PATH"), "LC_ALL=C.UTF-8"} }

// mostLog is how much of what the server prints is kept, in bytes, and shortenEvery how often that is
// looked at.
const (
	mostLog      = 8 << 20
	shortenEvery = 10 * time.Minute
)

func (s *Server) logFile() string { return filepath.Join(s.folder, "server.log") }

// shortenLog empties the file of what the server prints, where it has grown: the server goes on at the
// file's end, wherever that is.
func (s *Server) shortenLog() {
	if info, err := os.Stat(s.logFile()); err == nil && info.Size() > mostLog {
		if err := os.Truncate(s.logFile(), 0); err != nil {
			s.log.Warn("shorten what PostgreSQL prints", "error", err)
		}
	}
}

// ready waits until the server answers.
func (s *Server) ready(ctx context.Context, p *process) error {
	tick := time.NewTicker(15 * time.Millisecond)
	defer tick.Stop()
	for {
		err := s.ask(ctx, "postgres", "SELECT 1")
		if err == nil {
			return nil
		}
		var said *pgconn.PgError
		if errors.As(err, &said) && said.Code == "28P01" {
			return fault.Wrap(err, "database-closed", "put back the file password beside it", "PostgreSQL in %s does not take the password that the service keeps", s.folder)
		}
		select {
		case <-p.ended:
			return fault.Wrap(errEnded, "database-unavailable", "read "+s.logFile(), "PostgreSQL does not run; it said: %s", s.lastWords())
		case <-ctx.Done():
			return fmt.Errorf("wait for PostgreSQL: %w; it said: %s", err, s.lastWords())
		case <-tick.C:
		}
	}
}

// lastWords is the end of what the server printed.
func (s *Server) lastWords() string {
	b, err := os.ReadFile(s.logFile())
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(lines[max(0, len(lines)-4):], "; ")
}

func (s *Server) ask(ctx context.Context, database, question string) error {
	conn, err := pgx.Connect(ctx, s.address(database))
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	_, err = conn.Exec(ctx, question)
	return err
}

// makeDatabase makes the service's database where there is none.
func (s *Server) makeDatabase(ctx context.Context) error {
	err := s.ask(ctx, name, "SELECT 1")
	var said *pgconn.PgError
	if errors.As(err, &said) && said.Code == "3D000" {
		err = s.ask(ctx, "postgres", "CREATE DATABASE "+name)
	}
	if err != nil {
		return fmt.Errorf("make the service's database: %w", err)
	}
	return nil
}

// keep starts the server again when it ends by itself, until ctx ends.
func (s *Server) keep(ctx context.Context, p *process) {
	defer close(s.watched)
	tick := time.NewTicker(shortenEvery)
	defer tick.Stop()
	for {
		s.shortenLog()
		select {
		case <-ctx.Done():
			p.close()
			return
		case <-tick.C:
			continue
		case <-p.ended:
		}
		p.close()
		s.log.Warn("PostgreSQL ended, and is started again")
		for wait := 100 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
			var err error
			if p, err = s.run(ctx); err == nil {
				break
			}
			if ctx.Err() != nil {
				return
			}
			s.log.Error("start PostgreSQL again", "error", err)
			select {
			case <-ctx.Done():
				return
			case <-time.After(wait):
			}
		}
	}
}

// Close ends the server: connections are cut, data are kept.
func (s *Server) Close() error {
	s.end()
	<-s.watched
	p, err := s.find()
	if err != nil || p == nil {
		return err
	}
	defer p.close()
	if err := p.signal(syscall.SIGINT); err != nil {
		return fmt.Errorf("end PostgreSQL: %w", err)
	}
	select {
	case <-p.ended:
		return nil
	case <-time.After(stopLimit):
		return fmt.Errorf("PostgreSQL did not end within %s", stopLimit)
	}
}

// find finds the server at work on the data; nil: none is.
func (s *Server) find() (*process, error) {
	b, err := os.ReadFile(filepath.Join(s.data(), "postmaster.pid"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("look for PostgreSQL at work: %w", err)
	}
	first, _, _ := strings.Cut(string(b), "\n")
	id, err := strconv.Atoi(strings.TrimSpace(first))
	if err != nil || id <= 1 {
		return nil, nil // begun to be written; the server itself sees to it
	}
	p, err := openProcess(id)
	if err != nil {
		return nil, nil // gone
	}
	// A number is given again: it is the server only where its folder is.
	if at, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", id)); err != nil || !sameFile(at, s.data()) {
		p.close()
		return nil, nil
	}
	return p, nil
}

func sameFile(a, b string) bool {
	x, err1 := os.Stat(a)
	y, err2 := os.Stat(b)
	return err1 == nil && err2 == nil && os.SameFile(x, y)
}
