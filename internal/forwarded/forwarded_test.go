package forwarded

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyConfiguredProxiesNameTheSender(t *testing.T) {
	for _, c := range []struct {
		proxies, peer string
		lines         []string
		want          string
		tls           bool
	}{
		{"", "127.0.0.1:4000", []string{"10.0.0.9"}, "127.0.0.1:4000", false},
		{"loopback", "127.0.0.1:4000", []string{"10.0.0.9"}, "10.0.0.9:0", true},
		{"loopback", "[::1]:4000", []string{"2001:db8::7"}, "[2001:db8::7]:0", true},
		{"loopback", "[::ffff:127.0.0.1]:4000", []string{"10.0.0.9"}, "10.0.0.9:0", true},
		{"loopback", "192.0.2.1:4000", []string{"10.0.0.9"}, "192.0.2.1:4000", false},
		{"192.0.2.1, 10.8.0.0/16", "192.0.2.1:4000", []string{"6.6.6.6, 10.0.0.9, 10.8.1.1"}, "10.0.0.9:0", true},
		{"192.0.2.1", "192.0.2.1:4000", []string{"6.6.6.6", "10.0.0.9"}, "10.0.0.9:0", true},
		{"loopback", "127.0.0.1:4000", []string{"10.0.0.9, nonsense"}, "127.0.0.1:4000", true},
		{"loopback", "127.0.0.1:4000", nil, "127.0.0.1:4000", true},
	} {
		p, err := Parse(c.proxies)
		require.NoError(t, err)
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.peer
		r.Header["X-Forwarded-For"] = c.lines
		r.Header.Set("X-Forwarded-Proto", "https")
		p.Handler(http.HandlerFunc(func(_ http.ResponseWriter, got *http.Request) {
			assert.Equal(t, c.want, got.RemoteAddr, "%+v", c)
			assert.Equal(t, c.tls, OverTLS(got), "%+v", c)
		})).ServeHTTP(httptest.NewRecorder(), r)
	}
	_, err := Parse("proxy.example")
	assert.ErrorContains(t, err, `"proxy.example" is not an address or a network`)
}
