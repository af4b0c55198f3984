package webaddress

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkWebAddress asks a program through its web address, through a reverse proxy of the standard
// library that does nothing else, and straight at loopback, by turns: answers of 100 bytes, four at a
// time, and one of 16 MB. The ratios are the address's share of what loopback and the plain proxy do.
func BenchmarkWebAddress(b *testing.B) {
	small, large := make([]byte, 100), make([]byte, 16<<20)
	q := newQuay(b, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := small
		if r.URL.Path == "/large" {
			body = large
		}
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
		_, _ = w.Write(body)
	}))
	plain := httptest.NewServer(&httputil.ReverseProxy{
		Rewrite:   func(r *httputil.ProxyRequest) { r.SetURL(&url.URL{Scheme: "http", Host: q.program}) },
		Transport: &http.Transport{MaxIdleConnsPerHost: 32, DisableCompression: true},
	})
	b.Cleanup(plain.Close)
	// They differ in where they lead, and in nothing else.
	address, proxy, straight := q.browser(), q.browser(), q.browser()
	leads(proxy, plain.Listener.Addr().String())
	leads(straight, q.program)
	clients := []*http.Client{address, proxy, straight}
	for _, c := range clients {
		c.Transport.(*http.Transport).MaxIdleConnsPerHost = together
	}
	q.comes(address, "board", skipper)
	for name, path := range map[string]string{"requests": "/", "bytes": "/large"} {
		b.Run(name, func(b *testing.B) {
			took := make([]time.Duration, len(clients))
			for b.Loop() {
				for i, c := range clients {
					begun := time.Now()
					if path == "/large" {
						ask(b, c, q.url("board", path))
					} else {
						askTogether(b, c, q.url("board", path))
					}
					took[i] += time.Since(begun)
				}
			}
			b.ReportMetric(0, "ns/op") // the sum of all says nothing
			for i, name := range []string{"address-ms", "proxy-ms", "loopback-ms"} {
				b.ReportMetric(took[i].Seconds()*1000/float64(b.N), name)
			}
			b.ReportMetric(took[2].Seconds()/took[0].Seconds(), "of-loopback")
			b.ReportMetric(took[1].Seconds()/took[0].Seconds(), "of-plain-proxy")
		})
	}
}

// together is how many ask at a time.
const together = 4

// leads has a client's connections go to one place, whatever it asks for.
func leads(c *http.Client, to string) {
	c.Transport.(*http.Transport).DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", to)
	}
}

func ask(b *testing.B, c *http.Client, address string) {
	a, err := c.Get(address)
	require.NoError(b, err)
	defer a.Body.Close()
	_, err = io.Copy(io.Discard, a.Body)
	require.NoError(b, err)
	require.Equal(b, http.StatusOK, a.StatusCode)
}

// askTogether asks 25 times for each who asks.
func askTogether(b *testing.B, c *http.Client, address string) {
	var all sync.WaitGroup
	for range together {
		all.Go(func() {
			for range 25 {
				ask(b, c, address)
			}
		})
	}
	all.Wait()
}
