package wish

import (
	"errors"
	"net"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"golang.org/x/net/idna"
)

// asBrowsersDo writes the host of an address as browsers understand it (WHATWG URL, section 3.5): characters that look
// like others become those, and what ends in a number is an IPv4 address in whatever notation. A host that a browser
// would not take is an error.
func asBrowsersDo(u *url.URL) error {
	name, port := u.Hostname(), u.Port()
	if strings.HasPrefix(u.Host, "[") {
		a, err := netip.ParseAddr(name)
		if err != nil || a.Zone() != "" {
			return errors.New("not an IPv6 address")
		}
		u.Host = "[" + a.String() + "]"
	} else {
		ascii, err := hostNames.ToASCII(name)
		if err != nil {
			return err
		}
		if strings.ContainsAny(ascii, "\x00\t\n\r #%/:<>?@[\\]^|") || ascii == "" {
			return errors.New("not the name of a host")
		}
		if endsInNumber(ascii) {
			a, ok := anyIPv4(ascii)
			if !ok {
				return errors.New("not an IPv4 address")
			}
			ascii = a.String()
		}
		u.Host = ascii
	}
	if port != "" {
		u.Host = net.JoinHostPort(u.Hostname(), port)
	}
	return nil
}

var hostNames = idna.New(idna.MapForLookup(), idna.Transitional(false), idna.StrictDomainName(false))

// endsInNumber is the standard's "ends in a number checker".
func endsInNumber(host string) bool {
	parts := strings.Split(strings.TrimSuffix(host, "."), ".")
	last := parts[len(parts)-1]
	if last != "" && strings.Trim(last, "0123456789") == "" {
		return true
	}
	_, ok := ipv4Number(last)
	return ok
}

// ipv4Number is the standard's "IPv4 number parser": decimal, 0x and octal with a leading 0.
func ipv4Number(s string) (uint64, bool) {
	base := 10
	switch {
	case s == "":
		return 0, false
	case strings.HasPrefix(strings.ToLower(s), "0x"):
		s, base = s[2:], 16
	case len(s) > 1 && s[0] == '0':
		s, base = s[1:], 8
	}
	if s == "" {
		return 0, true
	}
	n, err := strconv.ParseUint(s, base, 64)
	return n, err == nil && !strings.ContainsAny(s, "+-_")
}

// anyIPv4 is the standard's "IPv4 parser": up to four numbers, the last of which takes the bytes that are left.
func anyIPv4(host string) (netip.Addr, bool) {
	parts := strings.Split(strings.TrimSuffix(host, "."), ".")
	if len(parts) > 4 {
		return netip.Addr{}, false
	}
	var all uint64
	for i, part := range parts {
		n, ok := ipv4Number(part)
		last := i == len(parts)-1
		if !ok || !last && n > 255 || last && n >= 1<<(8*(5-len(parts))) {
			return netip.Addr{}, false
		}
		if last {
			all += n
		} else {
			all += n << (8 * (3 - i))
		}
	}
	return netip.AddrFrom4([4]byte{byte(all >> 24), byte(all >> 16), byte(all >> 8), byte(all)}), true
}
