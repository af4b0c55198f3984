package e2e

import (
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"domicile/internal/client"
)

// quickProgram is a program as developers run them: an HTTP server of Python's library, which keeps
// connections.
const quickProgram = `import http.server
small, large = b"10:15 North Quay\n" * 6, bytes(16 << 20)
class H(http.server.BaseHTTPRequestHandler):
    protocol_version, wbufsize = "HTTP/1.1", -1
    def log_message(self, *a): pass
    def do_GET(self):
        b = large if self.path == "/large" else small
        self.send_response(200); self.send_header("Content-Length", str(len(b))); self.end_headers(); self.wfile.write(b)
http.server.ThreadingHTTPServer(("", 9000), H).serve_forever()
`

// withBoard makes a workspace in which the program runs, and gives who asks it at its web address and who
// asks it straight, with the address of each.
func withBoard(b *testing.B, name string) (clients [2]*http.Client, addresses [2]string) {
	b.Helper()
	ours, raw := withServer(b, name)
	options, host := apartFrom(ours)
	runsFine(b, quickProgram, "ssh", append(options, host, "cat > ~/board.py; setsid -f python3 ~/board.py >/dev/null 2>&1 </dev/null")...)
	_, at := apartFrom(raw)
	_, container, _ := strings.Cut(at, "@")
	straight := "http://" + net.JoinHostPort(container, "9000")
	require.Eventually(b, func() bool {
		a, err := http.Get(straight)
		if err != nil {
			return false
		}
		a.Body.Close()
		return true
	}, 20*time.Second, 50*time.Millisecond)
	out, err := skipper.command(b.Context(), "", "web", name, "9000", "-json").Output()
	require.NoError(b, err)
	var entry client.WebEntry
	require.NoError(b, json.Unmarshal(out, &entry))
	for i := range clients {
		clients[i] = browser(b)
		clients[i].Transport.(*http.Transport).MaxIdleConnsPerHost = 4
	}
	clients[1].Transport.(*http.Transport).DialContext = nil // it leads where the address says
	a, err := clients[0].Get(entry.Url)
	require.NoError(b, err)
	a.Body.Close()
	require.Equal(b, http.StatusOK, a.StatusCode)
	own := url.URL{Scheme: a.Request.URL.Scheme, Host: a.Request.URL.Host}
	return clients, [2]string{own.String(), straight}
}

func fetchedWhole(b *testing.B, c *http.Client, address string) {
	a, err := c.Get(address)
	require.NoError(b, err)
	defer a.Body.Close()
	_, err = io.Copy(io.Discard, a.Body)
	require.NoError(b, err)
	require.Equal(b, http.StatusOK, a.StatusCode, address)
}

// BenchmarkWebRequests asks a program in a workspace a hundred times, four at a time, at its web address,
// against the same straight at the container's address.
func BenchmarkWebRequests(b *testing.B) {
	clients, addresses := withBoard(b, "bench-web")
	hundred := func(side int) func() {
		return func() {
			var all sync.WaitGroup
			for range 4 {
				all.Go(func() {
					for range 25 {
						fetchedWhole(b, clients[side], addresses[side]+"/")
					}
				})
			}
			all.Wait()
		}
	}
	(&pair{}).measure(b, hundred(0), hundred(1))
}

// BenchmarkWebBytes fetches 16 MB the same way.
func BenchmarkWebBytes(b *testing.B) {
	clients, addresses := withBoard(b, "bench-bytes")
	(&pair{}).measure(b, func() { fetchedWhole(b, clients[0], addresses[0]+"/large") }, func() { fetchedWhole(b, clients[1], addresses[1]+"/large") })
}
