package connection

import (
	"io"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkEcho waits for one byte to come back through a channel, against the same stream alone, and
// BenchmarkBulk sends 16 MB. Both print time over time.
func BenchmarkEcho(b *testing.B) {
	channel, raw := echoes(b)
	one := make([]byte, 1)
	measure(b, func(c io.ReadWriter) {
		for range 500 {
			_, err := c.Write(one)
			require.NoError(b, err)
			_, err = io.ReadFull(c, one)
			require.NoError(b, err)
		}
	}, channel, raw)
}

func BenchmarkBulk(b *testing.B) {
	channel, raw := echoes(b)
	cargo, back := make([]byte, 16<<20), make([]byte, 16<<20)
	measure(b, func(c io.ReadWriter) {
		go func() { _, _ = c.Write(cargo) }()
		_, err := io.ReadFull(c, back)
		require.NoError(b, err)
	}, channel, raw)
}

// echoes are a channel over frames and a stream of the same kind, at whose other ends what comes goes
// back.
func echoes(b *testing.B) (channel, raw io.ReadWriter) {
	service, agent := ways["plain frames"](b)
	service.Quiet()
	takes(agent, func(_ string, c Channel) { go func() { _, _ = io.Copy(c, c) }() })
	channel, requests, err := service.OpenChannel("echo", nil)
	require.NoError(b, err)
	go Discard(requests)
	near, far := stream(b)
	go func() { _, _ = io.CopyBuffer(struct{ io.Writer }{far}, struct{ io.Reader }{far}, make([]byte, 64<<10)) }()
	return channel, struct{ net.Conn }{near}
}

func measure(b *testing.B, f func(io.ReadWriter), ours, raw io.ReadWriter) {
	var took [2][]time.Duration
	for b.Loop() {
		for i, c := range []io.ReadWriter{ours, raw} {
			began := time.Now()
			f(c)
			took[i] = append(took[i], time.Since(began))
		}
	}
	for i := range took {
		slices.Sort(took[i])
	}
	b.ReportMetric(float64(took[0][len(took[0])/2])/float64(took[1][len(took[1])/2]), "ratio")
	b.ReportMetric(float64(took[0][len(took[0])/2])/1e6, "ours-ms")
	b.ReportMetric(0, "ns/op")
}
