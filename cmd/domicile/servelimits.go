//go:build linux && !client

package main

import (
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"

	"domicile/internal/fault"
	"domicile/internal/forwarded"
	"domicile/internal/listen"
)

// stallLimit is how long a client may leave an answer unread. WebSockets have no such limit.
const stallLimit = 2 * time.Minute

// mayStallLater takes the limit away from connections that become something else than HTTP.
func mayStallLater(conn net.Conn, state http.ConnState) {
	if state == http.StateHijacked {
		_ = listen.MayStall(conn) // else a terminal ends that nobody reads
	}
}

// Limits of HTTP connections on which nobody has signed in yet. They take at most a quarter of the file descriptors.
const (
	maxHTTPNewcomers         = 4096
	maxHTTPNewcomersByPrefix = 256
)

// httpNewcomers bounds the connections of people who have not signed in; proxies are not people.
func httpNewcomers(proxies forwarded.Proxies) *listen.Newcomers {
	n := &listen.Newcomers{Total: maxHTTPNewcomers, ByPrefix: maxHTTPNewcomersByPrefix, Replace: true, Exempt: proxies.Contains}
	var files syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files); err == nil {
		n.Total = max(16, min(n.Total, int(min(files.Cur, 1<<20)/4)))
	}
	return n
}

// trustedProxies reads -proxies.
func (s *settings) trustedProxies() (forwarded.Proxies, error) {
	if s.proxies == "" && strings.HasPrefix(s.url, "https://") {
		return forwarded.Loopback, nil
	}
	p, err := forwarded.Parse(s.proxies)
	if err != nil {
		return nil, fault.New("bad-address", "give addresses and networks with commas between, such as 127.0.0.1,10.0.0.0/24", "-proxies: %v", err)
	}
	return p, nil
}
