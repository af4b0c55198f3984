package judge

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhichAddressesAreAsked(t *testing.T) {
	o, err := ParseOutside("127.0.0.1:4390, 10.20.0.0/16, git.ferry.test, quay.ferry.test:5000, [::1]:80")
	require.NoError(t, err)
	for address, want := range map[string]bool{
		"93.184.216.34:443": true, "[2606:2800:220:1::1]:443": true, "127.0.0.1:4390": true, "10.20.3.4:9": true, "[::1]:80": true, "[::ffff:127.0.0.1]:4390": true,
		"127.0.0.1:4391": false, "127.0.0.2:4390": false, "10.21.0.1:80": false, "[::1]:81": false, "192.168.1.1:80": false, "172.31.0.1:80": false, "172.32.0.1:80": true, "169.254.169.254:80": false,
		"100.64.0.1:80": false, "0.0.0.0:80": false, "0.1.2.3:80": false, "224.0.0.1:80": false, "255.255.255.255:80": false, "198.18.0.1:80": false, "[fe80::1]:80": false, "[fe80::1%eth0]:80": false, "[fc00::1]:80": false,
		"[::]:80": false, "[::ffff:10.0.0.1]:80": false, "[64:ff9b::7f00:1]:80": false, "[2002:7f00:1::]:80": false, "[::7f00:1]:80": false, "[2001:db8::1]:80": false, "[ff02::1]:80": false, "[fec0::1]:80": false,
	} {
		assert.Equal(t, want, o.Asks(netip.MustParseAddrPort(address)), address)
	}
	assert.True(t, o.Listed("GIT.ferry.test.", 1234))
	assert.False(t, o.Listed("evil-git.ferry.test", 443))
	assert.True(t, o.Listed("quay.ferry.test", 5000))
	assert.False(t, o.Listed("quay.ferry.test", 5001))
	assert.Len(t, o.Loopback(), 2)
	assert.False(t, Outside{}.Asks(netip.AddrPort{}))
	for _, bad := range []string{"a b", "127.0.0.1:0", "x:99999", "*", "http://x"} {
		_, err := ParseOutside(bad)
		assert.Error(t, err, bad)
	}
}
