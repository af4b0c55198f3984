package egress

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os/exec"

	"domicile/internal/netspace"
)

// apart is a network of its own for the programs that the service runs for people, in which
// there is nothing but the proxy, and the listed addresses of this machine's loopback: so
// also a program that does not ask its proxy for every address reaches no other.
type apart struct {
	space *netspace.Space // nil: this machine gives none
	at    string          // host:port of the proxy
}

// Start starts the proxy, in a network of its own where the service may make one. The
// programs that Run starts find it by their environment.
func (g *Gate) Start(ctx context.Context, log *slog.Logger) error {
	space, err := netspace.Make(append([]string{proxyPort}, texts(g.Outside.Loopback())...)...)
	if err != nil {
		log.Debug("a network of its own for git", "error", err)
		l, listenErr := net.Listen("tcp", "127.0.0.1:0")
		if listenErr != nil {
			return fmt.Errorf("listen for the programs that the service runs: %w", listenErr)
		}
		go g.serve(l, log)
		context.AfterFunc(ctx, func() { l.Close() })
		g.kept = &apart{at: l.Addr().String()}
		return nil
	}
	go g.serve(space.Listeners[0], log)
	for _, l := range space.Listeners[1:] {
		go netspace.Join(l, l.Addr().String()) // the same address here
	}
	context.AfterFunc(ctx, func() { _ = space.Close() }) // nobody needs it any more
	g.kept = &apart{space, space.Listeners[0].Addr().String()}
	return nil
}

// proxyPort is where the proxy is in a network of its own: nothing else listens there.
const proxyPort = "127.0.0.1:1"

func texts(list []netip.AddrPort) (out []string) {
	for _, a := range list {
		out = append(out, a.String())
	}
	return out
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
	return netspace.Within(g.kept.space.File, c.Run)
}
