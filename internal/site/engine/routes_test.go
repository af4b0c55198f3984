package engine

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRoutesOfTheHost(t *testing.T) {
	const table = "Iface\tDestination\tGateway \tFlags\tRefCnt\tUse\tMetric\tMask\t\tMTU\tWindow\tIRTT\n" +
		"eth0\t00000000\t0100A8C0\t0003\t0\t0\t0\t00000000\t0\t0\t0\n" +
		"br-1\t000012AC\t00000000\t0001\t0\t0\t0\t0000FFFF\t0\t0\t0\n" +
		"tun0\t0000140A\t0100140A\t0003\t0\t0\t0\t00FCFFFF\t0\t0\t0\n"
	assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("172.18.0.0/16"), netip.MustParsePrefix("10.20.0.0/22")}, routes4([]byte(table)))
	const six = "fd000000000000000000000000000000 40 00000000000000000000000000000000 00 00000000000000000000000000000000 00000100 00000001 00000000 00000001     br-1\n"
	assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("fd00::/64")}, routes6([]byte(six)))
}
