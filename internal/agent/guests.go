package agent

import (
	"context"
	"domicile/internal/listen"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// ServeGuests serves, until ctx ends, who is on the network of the workspace and its
// helpers and has the workspace's key for them: sessions, files and forwards, as the
// workspace's own person. What is the service's alone is not to be had there.
func (s *Server) ServeGuests(ctx context.Context, listener net.Listener) error {
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	accepting := listen.Patient(listener)
	for {
		conn, err := accepting.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("accept a guest: %w", err)
		}
		go s.serveGuest(ctx, conn)
	}
}

func (s *Server) serveGuest(ctx context.Context, conn net.Conn) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(proofLimit))
	c, channels, requests, err := ssh.NewServerConn(conn, s.guests)
	if err != nil {
		s.log.Debug("a guest's handshake", "error", err)
		return
	}
	_ = conn.SetDeadline(time.Time{})
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	guest := connection.OverSSH(c, channels, requests)
	go connection.Discard(guest.Requests)
	for channel := range guest.Channels {
		switch channel.ChannelType() {
		case "session", "direct-tcpip", "direct-streamlocal@openssh.com":
			go s.channel(ctx, &visitor{Conn: guest.Conn}, s.use.watched(channel))
		default:
			_ = channel.Reject(ssh.Prohibited, "not for guests")
		}
	}
}

// proofLimit is how long who comes has to prove who it is.
const proofLimit = 20 * time.Second

// Where OpenSSH's client looks for settings of the whole system.
const (
	sshSettings       = "/etc/ssh/ssh_config"
	sshSettingsFolder = "/etc/ssh/ssh_config.d"
	helperSettings    = sshSettingsFolder + "/domicile-helpers.conf"
	helperKey         = "/etc/ssh/domicile_helpers_key"
)

// knowHelpers lets ssh inside find the workspace's helpers by their names, without
// questions: it proves itself by a key that only this workspace has, and that opens nothing
// else.
func (s *Server) knowHelpers(q wire.HelpersRequest) error {
	if err := nameHosts(hostsFile, q.Addresses); err != nil {
		return err
	}
	if len(q.Names) == 0 {
		for _, file := range []string{helperSettings, helperKey} {
			if err := os.Remove(file); err != nil && !os.IsNotExist(err) {
				return err
			}
		}
		return nil
	}
	person, err := s.current()
	if err != nil {
		return err
	}
	text := fmt.Sprintf("# Written by Domicile: the helpers of this workspace.\nHost %s\n  Port %d\n  IdentityFile %s\n  StrictHostKeyChecking no\n  UserKnownHostsFile /dev/null\n  LogLevel ERROR\n",
		strings.Join(q.Names, " "), wire.GuestPort, helperKey)
	if err := os.MkdirAll(sshSettingsFolder, 0o755); err != nil {
		return err
	}
	if err := writeOwned(helperKey, q.Key, person.account); err != nil {
		return err
	}
	if err := os.WriteFile(helperSettings, []byte(text), 0o644); err != nil {
		return err
	}
	b, err := os.ReadFile(sshSettings)
	if os.IsNotExist(err) || err == nil && strings.Contains(string(b), sshSettingsFolder) {
		err = nil
		if len(b) > 0 {
			return nil
		}
	}
	if err != nil {
		return err
	}
	// An Include counts only for what stands before the first Host, so it comes first.
	return os.WriteFile(sshSettings, append([]byte("Include "+sshSettingsFolder+"/*.conf\n"), b...), 0o644)
}

// writeOwned writes a file that one user alone may read, in place of what is there.
func writeOwned(path, text string, owner *account) error {
	file, err := os.CreateTemp(filepath.Dir(path), ".domicile-")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name()) // where it was not moved
	_, err = file.WriteString(text)
	if err == nil && os.Getuid() == 0 {
		err = file.Chown(owner.uid, owner.gid)
	}
	if closeErr := file.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}
