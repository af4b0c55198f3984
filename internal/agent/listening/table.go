package listening

import (
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"strconv"
	"strings"
)

// parse reads a table of /proc/net: lines that it cannot read are left out.
func parse(table, network string) (list []Socket) {
	_, want := wanted(network)
	for line := range strings.Lines(table) {
		fields := strings.Fields(line)
		if len(fields) < 10 {
			continue
		}
		state, err := strconv.ParseUint(fields[3], 16, 8)
		if err != nil || uint8(state) != want {
			continue
		}
		address, ok := addressOf(fields[1])
		uid, errUID := strconv.ParseUint(fields[7], 10, 32)
		inode, errInode := strconv.ParseUint(fields[9], 10, 32)
		if ok && errUID == nil && errInode == nil {
			list = append(list, Socket{Network: network, Address: address, UID: uint32(uid), Inode: uint32(inode)})
		}
	}
	return list
}

// addressOf reads "0100007F:1F90": each four bytes of an address are a number in the machine's own
// byte order.
func addressOf(s string) (netip.AddrPort, bool) {
	host, port, _ := strings.Cut(s, ":")
	b, err := hex.DecodeString(host)
	n, errPort := strconv.ParseUint(port, 16, 16)
	if err != nil || errPort != nil || len(b) != 4 && len(b) != 16 {
		return netip.AddrPort{}, false
	}
	for i := 0; i < len(b); i += 4 {
		binary.NativeEndian.PutUint32(b[i:], binary.BigEndian.Uint32(b[i:]))
	}
	address, _ := netip.AddrFromSlice(b)
	return netip.AddrPortFrom(address.Unmap(), uint16(n)), true
}
