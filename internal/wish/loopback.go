package wish

import (
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// IsLoopback tells whether a host's name means the machine itself: inside, that is the workspace.
func IsLoopback(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	if host == "localhost" || strings.HasSuffix(host, ".localhost") || host == "0.0.0.0" || host == "::" {
		return true
	}
	address, err := netip.ParseAddr(host)
	return err == nil && (address.Unmap().IsLoopback() || address.Unmap().IsUnspecified())
}

// PortOf is the port of a web address, also where it does not say it.
func PortOf(u *url.URL) string {
	if port := u.Port(); port != "" {
		return port
	}
	if u.Scheme == "https" {
		return "443"
	}
	return "80"
}

// ComesBack are the ports of the workspace itself to which a page at an address may send the browser
// back, as a sign-in's page does: those of the web addresses in its query.
func ComesBack(u *url.URL) (ports []int) {
	for _, values := range u.Query() {
		for _, value := range values {
			back, err := url.Parse(value)
			if err != nil || back.Scheme != "http" && back.Scheme != "https" || !IsLoopback(back.Hostname()) {
				continue
			}
			port, err := strconv.Atoi(PortOf(back))
			if err == nil && port > 0 && port < 1<<16 && !slices.Contains(ports, port) && len(ports) < mostBack {
				ports = append(ports, port)
			}
		}
	}
	slices.Sort(ports)
	return ports
}

// mostBack is how many ports of one address are looked after.
const mostBack = 4
