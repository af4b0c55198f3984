package egress

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/judge"
)

func gate(t *testing.T, listed string, names map[string][]string) *Gate {
	t.Helper()
	o, err := judge.ParseOutside(listed)
	require.NoError(t, err)
	return &Gate{Outside: o, Resolve: func(_ context.Context, host string) (list []netip.Addr, err error) {
		for _, a := range names[host] {
			list = append(list, netip.MustParseAddr(a))
		}
		if len(list) == 0 {
			return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
		}
		return list, nil
	}}
}

func serverAt(t *testing.T) (string, *httptest.Server) {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if to := r.URL.Query().Get("to"); to != "" {
			http.Redirect(w, r, to, http.StatusFound)
			return
		}
		fmt.Fprint(w, "inside")
	}))
	t.Cleanup(s.Close)
	return strings.TrimPrefix(s.URL, "http://"), s
}

// Names are judged by all the addresses that they stand for.
func TestNamesAreJudgedByTheirAddresses(t *testing.T) {
	g := gate(t, "quay.ferry.test", map[string][]string{"mixed.test": {"93.184.216.34", "127.0.0.1"}, "inner.test": {"10.1.2.3"}, "mapped.test": {"::ffff:192.168.0.1"}, "public.test": {"93.184.216.34"}})
	for host, code := range map[string]string{"mixed.test:443": "address-not-asked", "inner.test": "address-not-asked", "mapped.test": "address-not-asked", "127.0.0.1:22": "address-not-asked", "[::1]:80": "address-not-asked",
		"0.0.0.0:80": "address-not-asked", "169.254.169.254": "address-not-asked", "nobody.test": "host-unknown"} {
		assert.Equal(t, code, fault.Code(g.Check(t.Context(), host)), host)
	}
	assert.NoError(t, g.Check(t.Context(), "public.test"))
	assert.NoError(t, g.Check(t.Context(), "quay.ferry.test:5000"), "listed by its name")
	addresses, err := net.InterfaceAddrs()
	require.NoError(t, err)
	for _, a := range addresses {
		p := netip.MustParsePrefix(a.String())
		assert.Error(t, g.Check(t.Context(), net.JoinHostPort(p.Addr().WithZone("").String(), "80")), "this machine's own address %s", a)
	}
}

// A redirection to where nothing is asked leads nowhere, and it is not told whether
// something listens there.
func TestRedirectionsAreJudged(t *testing.T) {
	listed, _ := serverAt(t)
	other, _ := serverAt(t)
	g := gate(t, listed, nil)
	client := &http.Client{Transport: g.Transport()}
	a, err := client.Get("http://" + listed)
	require.NoError(t, err)
	a.Body.Close()
	var said []string
	for _, to := range []string{"http://" + other, "http://127.0.0.1:9"} {
		_, err = client.Get("http://" + listed + "/?to=" + url.QueryEscape(to))
		require.Equal(t, "address-not-asked", fault.Code(err), "%v", err)
		var known *fault.Fault
		require.ErrorAs(t, err, &known)
		said = append(said, known.Message)
	}
	assert.Equal(t, said[0], said[1], "open and closed look the same")
}

// A name that is another address at the second question leads to the one that was judged.
func TestANameThatChanges(t *testing.T) {
	at, _ := serverAt(t)
	_, port, err := net.SplitHostPort(at)
	require.NoError(t, err)
	asked := 0
	g := gate(t, "", nil)
	g.Resolve = func(context.Context, string) ([]netip.Addr, error) {
		asked++
		return []netip.Addr{netip.MustParseAddr("127.0.0.1")}, nil
	}
	_, err = g.DialContext(t.Context(), "tcp", "rebinding.test:"+port)
	assert.Equal(t, "address-not-asked", fault.Code(err))
	assert.Equal(t, 1, asked, "it is asked once")
}

// Programs that are run see the proxy, and of this machine only what is listed, whether
// they ask the proxy or not.
func TestProgramsAreApart(t *testing.T) {
	listed, _ := serverAt(t)
	other, _ := serverAt(t)
	g := gate(t, listed, nil)
	require.NoError(t, g.Start(t.Context(), slog.New(slog.DiscardHandler)))
	require.True(t, g.Apart(), "these tests run as root")
	ask := func(address string, direct bool) string {
		args := []string{"-c", "import sys,urllib.request as u\nif " + map[bool]string{true: "1", false: "0"}[direct] + ": u.install_opener(u.build_opener(u.ProxyHandler({})))\ntry: print(u.urlopen(sys.argv[1],timeout=5).read().decode())\nexcept Exception as e: print(e)", "http://" + address}
		c := exec.Command("python3", args...)
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		require.NoError(t, g.Run(c), out.String())
		return out.String()
	}
	for _, direct := range []bool{false, true} {
		assert.Equal(t, "inside\n", ask(listed, direct))
		assert.NotContains(t, ask(other, direct), "inside")
	}
	assert.Contains(t, ask(other, false), fmt.Sprint(StatusUnasked))
}
