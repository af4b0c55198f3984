package daemons

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What did not get to run can be stopped: why it did not is told by who started it, and
// must not be hidden by a stack.
func TestStoppingWhatDidNotStart(t *testing.T) {
	assert.NotPanics(t, func() {
		(&Postgres{}).Stop()
		(&Engine{Host: "unix:///nowhere.sock"}).Close()
	})
}

// The range of an engine's default network meets none of the machine's, and none that an
// engine keeps for networks it makes by itself.
func TestAFreeRange(t *testing.T) {
	in := func(text string) *net.IPNet {
		ip, n, err := net.ParseCIDR(text)
		require.NoError(t, err)
		return &net.IPNet{IP: ip, Mask: n.Mask}
	}
	for range 300 {
		mine, err := freeRange([]net.Addr{in("127.0.0.1/8"), in("172.16.0.1/17"), in("172.16.200.1/24")})
		require.NoError(t, err)
		assert.True(t, in("172.16.128.0/17").Contains(mine.IP), "%s", mine)
		assert.False(t, in("172.16.200.0/24").Contains(mine.IP), "%s", mine)
	}
	_, err := freeRange([]net.Addr{in("172.16.3.4/12")})
	assert.ErrorContains(t, err, "no range of addresses is free")
}
