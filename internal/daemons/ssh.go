package daemons

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"domicile/internal/fault"
)

// SSH is OpenSSH's server on loopback: another host, as far as who comes by it can tell.
type SSH struct {
	Port   int
	folder string
	config string
	daemon *daemon
}

// StartSSH starts the server with its keys below folder; one that was there before has the same
// port, where that is free, the same key and lets the same in. Whoever has a key that is among
// the authorized ones comes in as any user.
func StartSSH(ctx context.Context, folder string) (*SSH, error) {
	s := &SSH{folder: filepath.Join(folder, "ssh")}
	if _, err := os.Stat("/usr/sbin/sshd"); err != nil {
		return nil, fault.Wrap(err, "no-ssh", "apt-get install --no-install-recommends openssh-server", "OpenSSH's server is not installed")
	}
	if err := errors.Join(os.MkdirAll(s.folder, 0o755), os.MkdirAll("/run/sshd", 0o755)); err != nil {
		return nil, err
	}
	var err error
	before, _ := os.ReadFile(s.in("port")) // there is none at the first start
	preferred, _ := strconv.Atoi(string(before))
	if s.Port, err = FreePort(preferred); err != nil {
		return nil, err
	}
	if err := os.WriteFile(s.in("port"), []byte(strconv.Itoa(s.Port)), 0o600); err != nil {
		return nil, err
	}
	if _, err := os.Stat(s.in("host_key")); err != nil {
		if err := errors.Join(s.NewHostKey(ctx), s.Authorize("")); err != nil {
			return nil, err
		}
	}
	s.config = fmt.Sprintf("ListenAddress 127.0.0.1:%d\nHostKey %s\nAuthorizedKeysFile %s\nPidFile none\nStrictModes no\nUsePAM no\nPasswordAuthentication no\nPermitRootLogin prohibit-password\nMaxStartups 100\n", s.Port, s.in("host_key"), s.in("authorized"))
	if err := os.WriteFile(s.in("sshd_config"), []byte(s.config), 0o600); err != nil {
		return nil, err
	}
	return s, s.Start(ctx)
}

func (s *SSH) in(name string) string { return filepath.Join(s.folder, name) }

// Start starts the server again after Stop, at the same port.
func (s *SSH) Start(ctx context.Context) (err error) {
	s.daemon, err = start(ctx, s.folder, "sshd", exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", s.in("sshd_config")), func(ctx context.Context) error {
		d := net.Dialer{Timeout: time.Second}
		conn, err := d.DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		if err == nil {
			conn.Close()
		}
		return err
	})
	return err
}

// NewHostKey gives the host another key, from its next start on.
func (s *SSH) NewHostKey(ctx context.Context) error {
	for _, old := range []string{s.in("host_key"), s.in("host_key.pub")} {
		if err := os.Remove(old); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	out, err := exec.CommandContext(ctx, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", s.in("host_key")).CombinedOutput()
	if err != nil {
		return fmt.Errorf("make a host key: %w: %s", err, out)
	}
	return nil
}

// Authorize lets in who has the key of an authorized_keys line; others no more.
func (s *SSH) Authorize(line string) error {
	return os.WriteFile(s.in("authorized"), []byte(line+"\n"), 0o644)
}

// Stop stops the server, and cuts its connections. It is held first: who is cut would come back
// before it is gone.
func (s *SSH) Stop() {
	_ = s.daemon.cmd.Process.Signal(syscall.SIGSTOP) // gone already is as well
	_ = exec.Command("pkill", "-KILL", "-P", fmt.Sprint(s.daemon.cmd.Process.Pid)).Run()
	s.daemon.stop(syscall.SIGKILL)
}
