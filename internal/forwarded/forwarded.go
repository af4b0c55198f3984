// Package forwarded finds the sender of a request that came through a proxy. The headers X-Forwarded-For and
// X-Forwarded-Proto are believed from configured proxies only: anybody else can write anything into them.
package forwarded

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// Proxies are the addresses of proxies that are believed.
type Proxies []netip.Prefix

// Loopback are the addresses of this host, where a proxy for TLS usually is.
var Loopback = Proxies{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("::1/128")}

// Parse reads addresses and networks with commas between them, such as "127.0.0.1,10.0.0.0/24". "loopback" stands
// for Loopback.
func Parse(text string) (p Proxies, err error) {
	for part := range strings.SplitSeq(text, ",") {
		switch part = strings.TrimSpace(part); {
		case part == "":
		case part == "loopback":
			p = append(p, Loopback...)
		default:
			prefix, err := netip.ParsePrefix(part)
			if addr, ofOne := netip.ParseAddr(part); ofOne == nil {
				prefix, err = addr.Unmap().Prefix(addr.Unmap().BitLen())
			}
			if err != nil {
				return nil, fmt.Errorf("%q is not an address or a network such as 10.0.0.0/24", part)
			}
			p = append(p, prefix.Masked())
		}
	}
	return p, nil
}

// Contains reports whether an address is that of a proxy.
func (p Proxies) Contains(a netip.Addr) bool {
	for _, prefix := range p {
		if prefix.Contains(a.Unmap().WithZone("")) {
			return true
		}
	}
	return false
}

type contextKey struct{}

// Handler gives next each request with the sender's address as its RemoteAddr (with port 0 if a proxy named it),
// and OverTLS as the proxy says.
func (p Proxies) Handler(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		peer, err := netip.ParseAddrPort(r.RemoteAddr)
		if err != nil || !p.Contains(peer.Addr()) {
			next.ServeHTTP(w, r)
			return
		}
		ctx := r.Context()
		if strings.EqualFold(r.Header.Get("X-Forwarded-Proto"), "https") {
			ctx = context.WithValue(ctx, contextKey{}, true)
		}
		r = r.WithContext(ctx)
		if from, ok := p.sender(r.Header.Values("X-Forwarded-For")); ok {
			r.RemoteAddr = net.JoinHostPort(from.String(), "0")
		}
		next.ServeHTTP(w, r)
	})
}

// sender is the last address in the header that is not a proxy's own: what stands before it was written by the
// sender.
func (p Proxies) sender(lines []string) (from netip.Addr, ok bool) {
	list := strings.Split(strings.Join(lines, ","), ",")
	for i := len(list) - 1; i >= 0; i-- {
		a, err := netip.ParseAddr(strings.TrimSpace(list[i]))
		if err != nil {
			return from, ok
		}
		if from, ok = a.Unmap().WithZone(""), true; !p.Contains(a) {
			return from, true
		}
	}
	return from, ok
}

// OverTLS reports whether the sender's side of the connection is TLS.
func OverTLS(r *http.Request) bool {
	said, _ := r.Context().Value(contextKey{}).(bool)
	return said || r.TLS != nil
}

// Host is the address of a request's sender without the port.
func Host(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}
