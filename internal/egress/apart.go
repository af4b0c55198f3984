package egress

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"runtime"

	"golang.org/x/sys/unix"
)

// apart is a network of its own for the programs that the service runs for people, in which
// there is nothing but the proxy, and the listed addresses of this machine's loopback: so
// also a program that does not ask its proxy for every address reaches no other.
type apart struct {
	space *os.File // the network namespace; nil: this machine gives none
	at    string   // host:port of the proxy
	open  []net.Listener
}

// Start starts the proxy, in a network of its own where the service may make one. The
// programs that Run starts find it by their environment.
func (g *Gate) Start(ctx context.Context, log *slog.Logger) error {
	k := &apart{}
	made := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread stays in the other network, and ends
		made <- k.make(g.Outside.Loopback())
	}()
	err := <-made
	if err != nil {
		log.Debug("a network of its own for git", "error", err)
		k.close()
		k = &apart{}
		l, listenErr := net.Listen("tcp", "127.0.0.1:0")
		if listenErr != nil {
			return fmt.Errorf("listen for the programs that the service runs: %w", listenErr)
		}
		k.at, k.open = l.Addr().String(), []net.Listener{l}
	}
	go g.serve(k.open[0], log)
	for _, l := range k.open[1:] {
		go pass(l)
	}
	context.AfterFunc(ctx, k.close)
	g.kept = k
	return nil
}

// proxyPort is where the proxy is in a network of its own: nothing else listens there.
const proxyPort = "127.0.0.1:1"

// make makes the network on this thread.
func (k *apart) make(loopback []netip.AddrPort) error {
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return fmt.Errorf("make a network namespace: %w", err)
	}
	space, err := os.Open("/proc/thread-self/ns/net")
	if err != nil {
		return fmt.Errorf("hold the network namespace: %w", err)
	}
	k.space = space
	if err := up("lo"); err != nil {
		return fmt.Errorf("start its loopback: %w", err)
	}
	for _, at := range append([]string{proxyPort}, texts(loopback)...) {
		l, err := net.Listen("tcp", at)
		if err != nil {
			return fmt.Errorf("listen in it at %s: %w", at, err)
		}
		k.open = append(k.open, l)
	}
	k.at = k.open[0].Addr().String()
	return nil
}

func texts(list []netip.AddrPort) (out []string) {
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
}

// up brings an interface up.
func up(name string) error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	r, err := unix.NewIfreq(name)
	if err != nil {
		return err
	}
	if err := unix.IoctlIfreq(s, unix.SIOCGIFFLAGS, r); err != nil {
		return err
	}
	r.SetUint16(r.Uint16() | unix.IFF_UP)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, r)
}

// pass joins what comes to an address in the other network to the same address here.
func pass(l net.Listener) {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer near.Close()
			far, err := net.DialTimeout("tcp", l.Addr().String(), dialLimit)
			if err != nil {
				return
			}
			defer far.Close()
			both(far, near, near)
		}()
	}
}

func (k *apart) close() {
	for _, l := range k.open {
		l.Close()
	}
	if k.space != nil {
		k.space.Close()
	}
}

// Apart tells whether programs run in a network of their own: else one that does not ask its
// proxy could reach this machine's loopback.
func (g *Gate) Apart() bool { return g != nil && g.kept != nil && g.kept.space != nil }

// Proxy is the address of the proxy as the programs that Run starts see it; empty: there is
// none.
func (g *Gate) Proxy() string {
	if g == nil || g.kept == nil {
		return ""
	}
	return g.kept.at
}

// Run runs a program in the network of its own. A nil gate runs it as any other.
func (g *Gate) Run(c *exec.Cmd) error {
	if proxy := g.Proxy(); proxy != "" {
		c.Env = append(c.Env, "http_proxy=http://"+proxy, "https_proxy=http://"+proxy, "HTTP_PROXY=http://"+proxy, "HTTPS_PROXY=http://"+proxy, "no_proxy=", "NO_PROXY=")
	}
	if !g.Apart() {
		return c.Run()
	}
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the program
		if err := unix.Setns(int(g.kept.space.Fd()), unix.CLONE_NEWNET); err != nil {
			done <- fmt.Errorf("go to the network of its own: %w", err)
			return
		}
		done <- c.Run()
	}()
	return <-done
}
