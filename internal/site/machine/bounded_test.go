package machine

import (
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who answers in place of a machine's engine, without end, is not listened to without end.
func TestAnAnswerWithoutEnd(t *testing.T) {
	for name, c := range map[string]struct {
		request string
		bounded bool
	}{
		"an answer":        {"GET /containers/json HTTP/1.1\r\nHost: engine\r\n\r\n", true},
		"a body that asks": {"PUT /containers/1/archive HTTP/1.1\r\nHost: engine\r\n\r\nfile\r\nUpgrade: tcp\r\n", true},
		"a stream":         {"POST /exec/1/start HTTP/1.1\r\nHost: engine\r\nConnection: Upgrade\r\nUpgrade: tcp\r\n\r\n", false},
	} {
		t.Run(name, func(t *testing.T) {
			mine, its := net.Pipe()
			b := &bounded{Conn: mine}
			defer b.Close()
			go func() {
				_, _ = its.Read(make([]byte, 1000))
				flood := make([]byte, 1<<20)
				for range 2 * mostAnswer / len(flood) {
					if _, err := its.Write(flood); err != nil {
						return
					}
				}
				its.Close()
			}()
			_, err := io.WriteString(b, c.request)
			require.NoError(t, err)
			n, err := io.Copy(io.Discard, b)
			if c.bounded {
				require.ErrorContains(t, err, "answers with more than 32 MB")
				assert.LessOrEqual(t, n, int64(mostAnswer))
				return
			}
			require.NoError(t, err)
			assert.Equal(t, int64(2*mostAnswer), n)
		})
	}
}
