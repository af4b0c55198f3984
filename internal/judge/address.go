package judge

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"domicile/internal/fault"
)

// Outside says which addresses the service's host asks on behalf of people: all that the
// whole world can ask, and of the others those that an administrator has listed. The zero
// Outside lists none.
type Outside struct{ listed []listed }

// listed is an entry of an administrator's list.
type listed struct {
	name   string       // of a host; empty: prefix counts
	prefix netip.Prefix // of addresses
	port   uint16       // 0: every port
}

// ParseOutside reads a list such as "git.ferry.test,127.0.0.1:4390,10.20.0.0/16": names,
// addresses and ranges, each with a port where only that one is meant.
func ParseOutside(text string) (o Outside, err error) {
	for entry := range strings.SplitSeq(text, ",") {
		if entry = strings.TrimSpace(entry); entry == "" {
			continue
		}
		l, ok := parseListed(entry)
		if !ok {
			return o, fault.New("bad-address", "write names, addresses and ranges, such as git.ferry.test, 127.0.0.1:4390 or 10.20.0.0/16", "%q is no address that can be listed", entry)
		}
		o.listed = append(o.listed, l)
	}
	return o, nil
}

func parseListed(entry string) (l listed, ok bool) {
	if p, err := netip.ParsePrefix(entry); err == nil {
		return listed{prefix: p.Masked()}, true
	}
	host := entry
	if a, err := netip.ParseAddrPort(entry); err == nil && a.Port() != 0 {
		ip := a.Addr().Unmap()
		return listed{prefix: netip.PrefixFrom(ip, ip.BitLen()), port: a.Port()}, true
	}
	if name, port, has := strings.Cut(entry, ":"); has && !strings.Contains(port, ":") {
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil || n == 0 {
			return l, false
		}
		host, l.port = name, uint16(n)
	}
	if a, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		a = a.Unmap()
		l.prefix = netip.PrefixFrom(a, a.BitLen())
		return l, true
	}
	l.name = plainHost(host)
	return l, hostName.MatchString(l.name)
}

// plainHost is a host's name as it is compared.
func plainHost(name string) string { return strings.ToLower(strings.TrimSuffix(name, ".")) }

// Listed tells whether a host is listed by its name: then it may be asked wherever it is.
func (o Outside) Listed(host string, port uint16) bool {
	host = plainHost(host)
	return slices.ContainsFunc(o.listed, func(l listed) bool { return l.name != "" && l.name == host && (l.port == 0 || l.port == port) })
}

// Asks tells whether an address may be asked, after all names were resolved.
func (o Outside) Asks(a netip.AddrPort) bool {
	ip := a.Addr().Unmap().WithZone("")
	return o.ListedAddress(a) || ip.IsValid() && ip.IsGlobalUnicast() && !slices.ContainsFunc(inside, func(p netip.Prefix) bool { return p.Contains(ip) })
}

// ListedAddress tells whether an address is listed.
func (o Outside) ListedAddress(a netip.AddrPort) bool {
	ip := a.Addr().Unmap().WithZone("")
	return slices.ContainsFunc(o.listed, func(l listed) bool {
		return l.name == "" && l.prefix.Contains(ip) && (l.port == 0 || l.port == a.Port())
	})
}

// Loopback lists the listed addresses of this machine's own loopback that have a port.
func (o Outside) Loopback() (list []netip.AddrPort) {
	for _, l := range o.listed {
		if l.name == "" && l.port != 0 && l.prefix.IsSingleIP() && l.prefix.Addr().IsLoopback() {
			list = append(list, netip.AddrPortFrom(l.prefix.Addr(), l.port))
		}
	}
	return list
}

// inside are the ranges that lead to networks that not everybody can ask (RFC 6890), and
// those that carry such an address within.
var inside = func() (list []netip.Prefix) {
	for _, p := range []string{"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24", "192.88.99.0/24", "192.168.0.0/16",
		"198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
		"::/96", "::1/128", "::ffff:0:0/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8"} {
		list = append(list, netip.MustParsePrefix(p))
	}
	return list
}()

// Unasked is the refusal of an address. It says the same whether something answers there or
// not, and whether the name is known or not.
func Unasked(host string) *fault.Fault {
	return fault.New("address-not-asked", "use an address that everybody can reach, or ask an administrator to list it (domicile serve -outside)",
		"%s leads to this host or to a network of its own, which the service asks for nobody", host)
}
