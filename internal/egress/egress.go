// Package egress is the one way by which the service asks addresses that people name: git
// hosts, registries, archives. Every connection is judged when all names are resolved, and
// is made to the very address that was judged; so a name that changes its address between
// two questions, or a redirection, leads nowhere else.
package egress

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"domicile/internal/fault"
	"domicile/internal/judge"
)

// dialLimit bounds a connection's beginning.
const dialLimit = 15 * time.Second

// Gate lets connections out that the rule allows.
type Gate struct {
	Outside judge.Outside
	// Resolve finds the addresses of a name; nil: as this machine does.
	Resolve func(ctx context.Context, host string) ([]netip.Addr, error)

	kept *apart // where git works; nil: nothing was started
}

// DialContext connects to host:port.
func (g *Gate) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, dialLimit)
	defer cancel()
	host, port, err := split(address)
	if err != nil {
		return nil, err
	}
	if g.Outside.Listed(host, port) {
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
	list, err := g.judged(ctx, host, port)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		var conn net.Conn
		if conn, err = (&net.Dialer{}).DialContext(ctx, network, a.String()); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// Check judges a host, with or without a port, that something else than the service asks,
// such as the registry that an engine pulls from.
func (g *Gate) Check(ctx context.Context, host string) error {
	address := host
	if _, _, err := net.SplitHostPort(host); err != nil {
		address = net.JoinHostPort(host, "443")
	}
	name, port, err := split(address)
	if err != nil || g.Outside.Listed(name, port) {
		return err
	}
	_, err = g.judged(ctx, name, port)
	return err
}

// judged resolves a name and gives the addresses that may be asked; one that may not makes
// all of them suspect.
func (g *Gate) judged(ctx context.Context, host string, port uint16) (list []netip.AddrPort, err error) {
	found, err := g.resolve(ctx, host)
	if err != nil {
		return nil, err
	}
	mine := own()
	for _, a := range found {
		at := netip.AddrPortFrom(a.Unmap(), port)
		if !g.Outside.Asks(at) || mine[a.Unmap()] && !g.Outside.ListedAddress(at) {
			return nil, judge.Unasked(host)
		}
		list = append(list, at)
	}
	if len(list) == 0 {
		return nil, judge.Unasked(host)
	}
	return list, nil
}

// own are the addresses of this machine: what it serves to the world is not asked from
// within, where it may take it for a friend.
func own() map[netip.Addr]bool {
	mine := map[netip.Addr]bool{}
	list, err := net.InterfaceAddrs()
	if err != nil {
		return mine
	}
	for _, a := range list {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			mine[p.Addr().Unmap()] = true
		}
	}
	return mine
}

func (g *Gate) resolve(ctx context.Context, host string) ([]netip.Addr, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{a}, nil
	}
	resolve := g.Resolve
	if resolve == nil {
		resolve = func(ctx context.Context, host string) ([]netip.Addr, error) {
			return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		}
	}
	list, err := resolve(ctx, host)
	if err != nil {
		return nil, fault.Transient(err, "host-unknown", "correct the host's name", "the name of the host %s is not known", host)
	}
	return list, nil
}

func split(address string) (host string, port uint16, err error) {
	host, text, err := net.SplitHostPort(address)
	n, numberErr := strconv.ParseUint(text, 10, 16)
	if err := errors.Join(err, numberErr); err != nil {
		return "", 0, fmt.Errorf("%q is no host and port: %w", address, err)
	}
	return host, uint16(n), nil
}

// Transport makes HTTP requests through the gate, redirections too.
func (g *Gate) Transport() *http.Transport {
	return &http.Transport{DialContext: g.DialContext, ForceAttemptHTTP2: true, MaxIdleConns: 32, IdleConnTimeout: 90 * time.Second, TLSHandshakeTimeout: dialLimit, ResponseHeaderTimeout: time.Minute, ExpectContinueTimeout: time.Second}
}
