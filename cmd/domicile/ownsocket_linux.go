package main

import (
	"bufio"
	"encoding/hex"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"
)

// isOwnSocket reports whether the other end of a loopback connection over IPv4 belongs to this user, by the kernel's
// table of sockets (proc(5), /proc/net/tcp: addresses in hexadecimal in the byte order of the machine, then the user).
func isOwnSocket(address string) bool {
	at, err := netip.ParseAddrPort(address)
	if err != nil || !at.Addr().Is4() {
		return false
	}
	f, err := os.Open("/proc/net/tcp")
	if err != nil {
		return false
	}
	defer f.Close()
	ip := at.Addr().As4()
	slices.Reverse(ip[:])
	own := strings.ToUpper(hex.EncodeToString(ip[:])) + ":" + strings.ToUpper(strconv.FormatUint(uint64(at.Port())|1<<16, 16)[1:])
	const local, user = 1, 7
	for lines := bufio.NewScanner(f); lines.Scan(); {
		if fields := strings.Fields(lines.Text()); len(fields) > user && fields[local] == own {
			return fields[user] == strconv.Itoa(os.Getuid())
		}
	}
	return false
}
