package channel

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAWakingIsReadAsItWasSent(t *testing.T) {
	sent := Waking{Time: time.Unix(1796071263, 123456789), Chance: [chanceSize]byte{1, 2, 63: 9}, Hostname: "machine-w1"}
	long := sent
	long.Hostname = strings.Repeat("n", 300)
	for _, w := range []Waking{sent, {Time: time.Unix(0, 0)}, long} {
		from := bytes.NewReader(append(w.Bytes(), "what follows"...))
		read, err := ReadWaking(from)
		require.NoError(t, err)
		w.Hostname = w.Hostname[:min(len(w.Hostname), 255)]
		assert.Equal(t, w, read)
		assert.Equal(t, len("what follows"), from.Len())
	}
	for at := range sent.Bytes() { // cut off anywhere
		_, err := ReadWaking(bytes.NewReader(sent.Bytes()[:at]))
		assert.Error(t, err)
	}
	_, err := ReadWaking(strings.NewReader(`{"time":"2026-11-30T20:41:03Z","chance":"AQID","hostname":"machine-w1"}` + strings.Repeat(" ", 99)))
	assert.ErrorContains(t, err, "form")
}

func FuzzReadWaking(f *testing.F) {
	f.Add(Waking{Time: time.Unix(1, 2), Hostname: "m"}.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		if w, err := ReadWaking(bytes.NewReader(b)); err == nil {
			assert.Equal(t, b[:len(w.Bytes())], w.Bytes())
		}
	})
}
