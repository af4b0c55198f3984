package webaddress

import (
	"io"
	"net/http"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkWebAddress asks a program through its web address and straight at loopback, alternately:
// answers of 100 bytes, four at a time, and one of 16 MB. The ratios are the address's share of what
// loopback does.
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
	through, straight := q.browser(), &http.Client{}
	q.comes(through, "board", skipper)
	ask := func(c *http.Client, address string) {
		a, err := c.Get(address)
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, a.Body)
		require.NoError(b, err)
		a.Body.Close()
		require.Equal(b, http.StatusOK, a.StatusCode)
	}
	for name, path := range map[string]string{"requests": "/", "bytes": "/large"} {
		b.Run(name, func(b *testing.B) {
			var took [2]time.Duration
			for b.Loop() {
				for i, c := range []*http.Client{through, straight} {
					address := q.url("board", path)
					if c == straight {
						address = "http://" + q.program + path
					}
					begun := time.Now()
					if path == "/large" {
						ask(c, address)
					} else {
						var four [4]chan struct{}
						for n := range four {
							four[n] = make(chan struct{})
							go func() {
								defer close(four[n])
								for range 25 {
									ask(c, address)
								}
							}()
						}
						for _, over := range four {
							<-over
						}
					}
					took[i] += time.Since(begun)
				}
			}
			b.ReportMetric(took[1].Seconds()/took[0].Seconds(), "of-loopback")
		})
	}
}
