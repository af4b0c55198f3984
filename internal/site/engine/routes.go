package engine

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/bits"
	"net/netip"
	"os"
	"strings"
)

// hostRoutes lists where the routes of this machine lead, the default ones too.
func hostRoutes() ([]netip.Prefix, error) {
	four, err := os.ReadFile("/proc/net/route")
	if err != nil {
		return nil, fmt.Errorf("read the host's routes: %w", err)
	}
	six, err := os.ReadFile("/proc/net/ipv6_route")
	if err != nil && !os.IsNotExist(err) {
		return nil, fmt.Errorf("read the host's routes: %w", err)
	}
	return append(routes4(four), routes6(six)...), nil
}

// routes4 reads /proc/net/route: numbers are in the machine's order of bytes.
func routes4(table []byte) (list []netip.Prefix) {
	for s := bufio.NewScanner(bytes.NewReader(table)); s.Scan(); {
		words := strings.Fields(s.Text())
		if len(words) < 8 {
			continue
		}
		to, err := hex.DecodeString(words[1])
		mask, maskErr := hex.DecodeString(words[7])
		if err != nil || maskErr != nil || len(to) != 4 || len(mask) != 4 {
			continue // the heading
		}
		var address [4]byte
		binary.NativeEndian.PutUint32(address[:], binary.BigEndian.Uint32(to))
		list = append(list, netip.PrefixFrom(netip.AddrFrom4(address), bits.OnesCount32(binary.BigEndian.Uint32(mask))))
	}
	return list
}

// routes6 reads /proc/net/ipv6_route. What every machine has for itself is no way anywhere.
func routes6(table []byte) (list []netip.Prefix) {
	for s := bufio.NewScanner(bytes.NewReader(table)); s.Scan(); {
		words := strings.Fields(s.Text())
		if len(words) < 2 {
			continue
		}
		to, err := hex.DecodeString(words[0])
		length, lengthErr := hex.DecodeString(words[1])
		if err != nil || lengthErr != nil || len(to) != 16 || len(length) != 1 {
			continue
		}
		list = append(list, netip.PrefixFrom(netip.AddrFrom16([16]byte(to)), int(length[0])))
	}
	return list
}
