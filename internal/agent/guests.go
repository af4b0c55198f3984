package agent

import (
	"context"
	"fmt"
	"net"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
)

// ServeGuests serves, until ctx ends, who is on the network of the workspace and its
// helpers: sessions, files and forwards without a key, as the workspace's own person. What
// is the service's alone is not to be had there.
func (s *Server) ServeGuests(ctx context.Context, listener net.Listener) error {
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	for {
		conn, err := listener.Accept()
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
	c, channels, requests, err := ssh.NewServerConn(conn, s.ssh)
	if err != nil {
		s.log.Debug("a guest's handshake", "error", err)
		return
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go ssh.DiscardRequests(requests)
	for channel := range channels {
		switch channel.ChannelType() {
		case "session", "direct-tcpip", "direct-streamlocal@openssh.com":
			go s.channel(ctx, c, s.use.watched(channel))
		default:
			_ = channel.Reject(ssh.Prohibited, "not for guests")
		}
	}
}

// Where OpenSSH's client looks for settings of the whole system.
const (
	sshSettings       = "/etc/ssh/ssh_config"
	sshSettingsFolder = "/etc/ssh/ssh_config.d"
	helperSettings    = sshSettingsFolder + "/domicile-helpers.conf"
)

// knowHelpers lets ssh inside find the workspace's helpers by their names, without keys
// and questions: their network is the workspace's own.
func knowHelpers(names []string) error {
	if len(names) == 0 {
		if err := os.Remove(helperSettings); err != nil && !os.IsNotExist(err) {
			return err
		}
		return nil
	}
	text := fmt.Sprintf("# Written by Domicile: the helpers of this workspace.\nHost %s\n  Port %d\n  StrictHostKeyChecking no\n  UserKnownHostsFile /dev/null\n  LogLevel ERROR\n",
		strings.Join(names, " "), wire.GuestPort)
	if err := os.MkdirAll(sshSettingsFolder, 0o755); err != nil {
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
