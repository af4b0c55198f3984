package daemons

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"domicile/internal/site/machine/vm/process"
)

// Provider is the stand-in for a provider of rented instances on loopback, as a process.
type Provider struct {
	Address string // of its region, as a site has it
	KeyFile string
	folder  string
	daemon  *daemon
}

// StartProvider starts the stand-in with its data below folder, whose path must be short: program
// is that of the product, image what scripts/machine-image made, reach the addresses of this
// machine that instances reach.
func StartProvider(ctx context.Context, program, folder, image string, port int, reach []string, more ...string) (*Provider, error) {
	p := &Provider{folder: filepath.Join(folder, "provider")}
	if err := os.MkdirAll(p.folder, 0o711); err != nil {
		return nil, err
	}
	port, err := FreePort(port)
	if err != nil {
		return nil, err
	}
	at := net.JoinHostPort("127.0.0.1", strconv.Itoa(port))
	p.Address, p.KeyFile = fmt.Sprintf("http://%s/north", at), filepath.Join(p.folder, "key")
	args := append([]string{"standin", "cloud", "-http", at, "-data", p.folder, "-image", image, "-reach", strings.Join(reach, ",")}, more...)
	p.daemon, err = start(ctx, p.folder, "provider", exec.Command(program, args...), func(ctx context.Context) error {
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at)
		if err == nil {
			conn.Close()
		}
		return err
	})
	return p, err
}

// Key is the key of the account there.
func (p *Provider) Key() (string, error) {
	b, err := os.ReadFile(p.KeyFile)
	return strings.TrimSpace(string(b)), err
}

// Stop stops the stand-in, and its instances.
func (p *Provider) Stop() error {
	p.daemon.stop(syscall.SIGTERM)
	return process.EndAll(context.Background(), filepath.Join(p.folder, "m"))
}
