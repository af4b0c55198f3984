package scenario

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"domicile/internal/daemons"
)

// SetupCode makes the first account of a service started here.
const SetupCode = "skerry-setup"

// Service is Domicile's service as a process.
type Service struct {
	URL  string // http://host:port
	SSH  string // host:port
	cmd  *exec.Cmd
	done chan struct{}
	log  string
}

// StartService starts the service, and waits until it is ready.
func (w *World) StartService(ctx context.Context, more ...string) error {
	httpPort, err := w.port(w.o.HTTP, w.Service, func(s *Service) string { return strings.TrimPrefix(s.URL, "http://") })
	if err != nil {
		return err
	}
	sshPort, err := w.port(w.o.SSH, w.Service, func(s *Service) string { return s.SSH })
	if err != nil {
		return err
	}
	s, err := w.launch(httpPort, sshPort, "service.log", more)
	if err != nil {
		return err
	}
	w.Service = s
	return s.ready(ctx)
}

// StartReplica starts another service on the same records, engine and data folder, with more flags. The
// caller stops it.
func (w *World) StartReplica(ctx context.Context, flags ...string) (*Service, error) {
	httpPort, err := daemons.FreePort(0)
	if err != nil {
		return nil, err
	}
	sshPort, err := daemons.FreePort(0)
	if err != nil {
		return nil, err
	}
	s, err := w.launch(httpPort, sshPort, "replica.log", flags)
	if err != nil {
		return nil, err
	}
	return s, s.ready(ctx)
}

// StartAs starts another service, with records and data of its own, as a user without rights
// who may use the engine by the group of its socket. The caller stops it.
func (w *World) StartAs(ctx context.Context, user uint32, database, data string) (*Service, error) {
	httpPort, err := daemons.FreePort(0)
	if err != nil {
		return nil, err
	}
	sshPort, err := daemons.FreePort(0)
	if err != nil {
		return nil, err
	}
	s, err := w.start(httpPort, sshPort, "as-user.log", database, data, &syscall.Credential{Uid: user, Gid: user, Groups: []uint32{engineGroup}}, nil)
	if err != nil {
		return nil, err
	}
	return s, s.ready(ctx)
}

// engineGroup is the group of the engine's socket.
const engineGroup = 0

// launch starts a service as a process.
func (w *World) launch(httpPort, sshPort int, logFile string, more []string) (*Service, error) {
	return w.start(httpPort, sshPort, logFile, w.Postgres.URL, filepath.Join(w.o.Folder, "service"), nil, more)
}

func (w *World) start(httpPort, sshPort int, logFile, database, data string, as *syscall.Credential, more []string) (*Service, error) {
	s := &Service{URL: fmt.Sprintf("http://127.0.0.1:%d", httpPort), SSH: fmt.Sprintf("127.0.0.1:%d", sshPort),
		done: make(chan struct{}), log: filepath.Join(w.o.Folder, logFile)}
	more = append(slices.Clone(w.o.Serve), more...)
	args := append([]string{"serve", "-http", strings.TrimPrefix(s.URL, "http://"), "-ssh", s.SSH,
		"-data", data, "-engine", w.EngineAt, "-source-folders", filepath.Join(w.o.Folder, "folders"), "-templates", w.TemplatesAt(), "-outside", strings.Join(append([]string{w.RegistryAt, strings.TrimPrefix(w.GitAt, "http://")}, w.o.Outside...), ",")}, more...)
	s.cmd = exec.Command(filepath.Join(w.o.Programs, "domicile"), args...)
	// Every user of a machine sees the arguments of its programs: the password is none of them.
	s.cmd.Env = append(os.Environ(), "DOMICILE_SETUP_CODE="+SetupCode, "DOMICILE_DATABASE="+database)
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM, Credential: as}
	log, err := os.OpenFile(s.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		return nil, fmt.Errorf("start the service: %w", err)
	}
	go func() {
		_ = s.cmd.Wait()
		close(s.done)
	}()
	return s, nil
}

// port keeps the port of a service that is started again.
func (w *World) port(preferred int, last *Service, of func(*Service) string) (int, error) {
	if last != nil {
		var port int
		_, err := fmt.Sscanf(of(last), "127.0.0.1:%d", &port)
		return port, err
	}
	return daemons.FreePort(preferred)
}

const serviceReady = 30 * time.Second

func (s *Service) ready(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, serviceReady)
	defer cancel()
	for {
		r, err := http.Get(s.URL + "/readyz")
		if err == nil {
			r.Body.Close()
			if r.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-s.done:
			return fmt.Errorf("the service ended at once; it said:\n%s", s.LastWords())
		case <-ctx.Done():
			return fmt.Errorf("the service does not answer; it said:\n%s", s.LastWords())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// Printed is all that the service, and those before it in the same world, printed.
func (s *Service) Printed() string {
	b, err := os.ReadFile(s.log)
	if err != nil {
		return err.Error()
	}
	return string(b)
}

// LastWords is the end of what the service printed.
func (s *Service) LastWords() string {
	said := s.Printed()
	return said[max(0, len(said)-4000):]
}

// Done is closed when the service has ended.
func (s *Service) Done() <-chan struct{} { return s.done }

// PID is the service's process.
func (s *Service) PID() int { return s.cmd.Process.Pid }

// Stop asks the service to end and waits for it.
func (s *Service) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		s.Kill()
	}
}

// Kill ends the service at once, as a power cut would.
func (s *Service) Kill() {
	_ = s.cmd.Process.Kill()
	<-s.done
}
