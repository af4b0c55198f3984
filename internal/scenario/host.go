package scenario

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"domicile/internal/client"
	"domicile/internal/daemons"
	"domicile/internal/fault"
)

// Mooring is the name of the second host's site.
const Mooring = "mooring"

// host is a second host, as far as who comes by its SSH server can tell: that, and an engine of
// its own. It is on loopback, with the same network as this one.
type host struct {
	ssh    *daemons.SSH
	engine *daemons.Engine
	home   string // the folder in which a user's own engine listens there
}

// startHost starts the second host.
func (w *World) startHost(ctx context.Context) error {
	w.o.Say("starting a second host, with an engine and an SSH server")
	folder := filepath.Join(w.o.Folder, Mooring)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	w.host = &host{}
	var err error
	if w.host.engine, err = daemons.StartEngine(ctx, folder); err != nil {
		return fmt.Errorf("start the engine of the second host: %w", err)
	}
	if w.host.ssh, err = daemons.StartSSH(ctx, folder); err != nil {
		return fmt.Errorf("start the SSH server of the second host: %w", err)
	}
	// Nobody's number, and the same at each start: the site's address has it.
	w.host.home = fmt.Sprintf("/run/user/%d", 1_000_000+w.host.ssh.Port)
	if err := os.MkdirAll(w.host.home, 0o755); err != nil {
		return err
	}
	socket := filepath.Join(w.host.home, "docker.sock")
	if err := os.Remove(socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return os.Symlink(strings.TrimPrefix(w.host.engine.Host, "unix://"), socket)
}

// AddHost adds the second host to the service's sites, unless it is among them, and lets the
// service in there.
func (w *World) AddHost(ctx context.Context, c *client.Service) error {
	address := fmt.Sprintf("ssh://root@127.0.0.1:%d%s/docker.sock", w.host.ssh.Port, w.host.home)
	trust, err := client.Answer[client.HostTrust](c.AddSite(ctx, client.NewSite{Name: Mooring, Address: address}))
	if fault.Code(err) == "name-taken" {
		return nil
	}
	if err != nil {
		return fmt.Errorf("add the second host: %w", err)
	}
	if err := w.host.ssh.Authorize(trust.Install); err != nil {
		return err
	}
	_, err = client.Answer[[]client.Finding](c.ExamineSite(ctx, Mooring))
	return err
}

// stop stops what was started of it.
func (h *host) stop() {
	if h.ssh != nil {
		h.ssh.Stop()
	}
	if h.engine != nil {
		h.engine.Close()
	}
	if h.home != "" {
		_ = os.RemoveAll(h.home) // a link and its folder
	}
}
