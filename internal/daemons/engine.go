package daemons

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/moby/sys/mount"
	"golang.org/x/sys/unix"

	"domicile/internal/fault"
)

// UsualEngine is where a container engine of the machine itself listens.
const UsualEngine = "unix:///var/run/docker.sock"

// EngineAnswers tells whether a container engine answers at a socket.
func EngineAnswers(ctx context.Context, host string) bool {
	return ask(ctx, host, http.MethodGet, "/_ping", nil) == nil
}

// Engine is a container engine of our own.
type Engine struct {
	Host   string // unix://…
	folder string
	bridge string // the device of its default network, which image builds use
	// pool is what its networks get their addresses from: the usual one has room for 31, of all
	// engines of a machine together.
	pool   string
	daemon *daemon
}

// StartEngine starts a container engine with its data and socket below folder.
func StartEngine(ctx context.Context, folder string) (*Engine, error) {
	e := &Engine{folder: filepath.Join(folder, "engine")}
	e.Host = "unix://" + filepath.Join(e.folder, "engine.sock")
	if os.Getuid() != 0 {
		return nil, fault.New("not-root", "run this as root, or start a container engine at "+UsualEngine, "starting a container engine needs root")
	}
	if err := os.MkdirAll(e.folder, 0o711); err != nil {
		return nil, err
	}
	return e, e.Start(ctx)
}

// Start starts the engine again after Stop, with the same data.
func (e *Engine) Start(ctx context.Context) error {
	program, err := exec.LookPath("dockerd")
	if err != nil {
		return fault.Wrap(err, "no-engine", "apt-get install --no-install-recommends docker.io iptables", "no container engine is installed")
	}
	in := func(name string) string { return filepath.Join(e.folder, name) }
	leave, err := turn(ctx)
	if err != nil {
		return err
	}
	defer leave()
	if err := e.makeBridge(ctx); err != nil {
		return err
	}
	if err := e.unmountLeft(); err != nil {
		return fmt.Errorf("take away what an engine before this one left mounted: %w", err)
	}
	if err := e.forgetReleased(); err != nil {
		return fmt.Errorf("forget the networks that an engine before this one was removing: %w", err)
	}
	path, err := e.lockingFilter(ctx)
	if err != nil {
		return err
	}
	command := func() *exec.Cmd {
		c := exec.Command(program, "--data-root", in("data"), "--exec-root", in("exec"), "-H", e.Host, "-p", in("engine.pid"), "--bridge", e.bridge, "--group", "root", "--userns-remap", "default", "--icc=false", "--shutdown-timeout", "60", "--default-address-pool", e.pool)
		c.Env = append(os.Environ(), "PATH="+path)
		return c
	}
	answers := func(ctx context.Context) error {
		if !EngineAnswers(ctx, e.Host) {
			return errors.New("no answer yet")
		}
		return nil
	}
	e.daemon, err = start(ctx, e.folder, "dockerd", command(), answers)
	if errors.Is(err, errEnded) { // an init system starts it again, too
		e.daemon, err = start(ctx, e.folder, "dockerd", command(), answers)
	}
	if err != nil {
		_ = exec.Command("ip", "link", "delete", e.bridge).Run() // nobody else knows of it
		e.bridge = ""
	}
	return err
}

// turns is a file that is locked while an engine starts, and turnEvery is how often it is tried: of
// engines that start at one moment each finds chains of the packet filter that the others are making,
// and ends.
const (
	turns     = "/run/domicile-engine-starts"
	turnEvery = 20 * time.Millisecond
)

// turn waits until no other engine of this machine starts.
func turn(ctx context.Context) (leave func(), err error) {
	f, err := os.OpenFile(turns, os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, fmt.Errorf("wait for other engines that start: %w", err)
	}
	for {
		if err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err == nil {
			return func() { f.Close() }, nil
		}
		select {
		case <-ctx.Done():
			f.Close()
			return nil, fmt.Errorf("wait for other engines that start: %w", ctx.Err())
		case <-time.After(turnEvery):
		}
	}
}

// unmountLeft unmounts what an engine left: one that is asked to start a container while it stops
// leaves that container's files mounted, below the mount that the next engine makes of its own
// data, and then nobody can remove the container.
func (e *Engine) unmountLeft() error { return mount.RecursiveUnmount(filepath.Join(e.folder, "data")) }

// lockingFilter gives the PATH on which an engine finds the packet filter's older program, where
// this machine has that: it waits for others that change the filter, and with the newer one two
// engines that work at the same moment refuse networks, or do not start.
func (e *Engine) lockingFilter(ctx context.Context) (string, error) {
	path := os.Getenv("PATH")
	if err := exec.CommandContext(ctx, "iptables-legacy", "-w", "-t", "nat", "-S").Run(); err != nil {
		return path, nil // there is none, or the kernel has it not
	}
	programs := filepath.Join(e.folder, "programs")
	if err := os.MkdirAll(programs, 0o755); err != nil {
		return "", err
	}
	for _, name := range []string{"iptables", "iptables-save", "iptables-restore", "ip6tables", "ip6tables-save", "ip6tables-restore"} {
		older, err := exec.LookPath(strings.Replace(name, "tables", "tables-legacy", 1))
		if err != nil {
			continue
		}
		if err := os.Symlink(older, filepath.Join(programs, name)); err != nil && !errors.Is(err, os.ErrExist) {
			return "", err
		}
	}
	return programs + string(os.PathListSeparator) + path, nil
}

// makeBridge makes a bridge of the engine's own with a range that is free: engines on one
// machine must not meet on the usual one.
func (e *Engine) makeBridge(ctx context.Context) error {
	if e.bridge != "" && exec.CommandContext(ctx, "ip", "link", "show", e.bridge).Run() == nil {
		return nil
	}
	taken, err := net.InterfaceAddrs()
	if err != nil {
		return fmt.Errorf("list the machine's addresses: %w", err)
	}
	mine, err := freeRange(taken)
	if err != nil {
		return err
	}
	e.bridge = fmt.Sprintf("dmcl%02x%04x", mine.IP[2], os.Getpid()&0xffff)
	e.pool = fmt.Sprintf("base=10.%d.0.0/16,size=24", mine.IP[2])
	gateway := net.IPv4(mine.IP[0], mine.IP[1], mine.IP[2], 1)
	for _, args := range [][]string{{"link", "add", e.bridge, "type", "bridge"}, {"address", "add", gateway.String() + "/24", "dev", e.bridge}, {"link", "set", e.bridge, "up"}} {
		if out, err := exec.CommandContext(ctx, "ip", args...).CombinedOutput(); err != nil {
			return fault.Wrap(err, "no-bridge", "apt-get install iproute2; network bridges must be allowed here", "cannot make a network bridge: %s", strings.TrimSpace(string(out)))
		}
	}
	return nil
}

// freeRange finds a range of addresses that no interface of the machine has. It is none of
// those that an engine gives to its networks by itself, 172.17.0.0/16 and above: it would
// meet a network that this engine had before it stopped, and then the engine does not start.
func freeRange(taken []net.Addr) (*net.IPNet, error) {
	first := rand.IntN(256)
	for i := range 256 {
		mine := &net.IPNet{IP: net.IPv4(172, 16, byte(first+i), 0).To4(), Mask: net.CIDRMask(24, 32)}
		if !slices.ContainsFunc(taken, func(t net.Addr) bool {
			n, ok := t.(*net.IPNet)
			return ok && (n.Contains(mine.IP) || mine.Contains(n.IP))
		}) {
			return mine, nil
		}
	}
	return nil, errors.New("no range of addresses is free for the engine's network: all of 172.16.0.0/16 are taken")
}

// Stop stops the engine and with it the containers. Its data stays.
func (e *Engine) Stop() { e.daemon.stop(syscall.SIGTERM) }

// Close stops the engine and takes its networks' devices away, which it would leave.
func (e *Engine) Close() {
	bridges := append(e.bridges(), e.bridge)
	e.Stop()
	_ = e.unmountLeft() // for who removes the folder
	for _, b := range bridges {
		_ = exec.Command("ip", "link", "delete", b).Run() // gone already is as well
	}
}

func (e *Engine) bridges() (names []string) {
	var list []struct{ ID, Driver string }
	if err := ask(context.Background(), e.Host, http.MethodGet, "/networks", &list); err != nil {
		return nil // it is gone, and told nothing
	}
	for _, n := range list {
		if n.Driver == "bridge" && len(n.ID) > 12 {
			names = append(names, "br-"+n.ID[:12])
		}
	}
	return names
}
