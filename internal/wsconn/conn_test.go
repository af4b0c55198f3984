package wsconn

import (
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// joined gives both ends of a WebSocket.
func joined(t *testing.T) (near *Conn, far *websocket.Conn) {
	t.Helper()
	accepted := make(chan *websocket.Conn, 1)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, err := (&websocket.Upgrader{}).Upgrade(w, r, nil)
		if err == nil {
			accepted <- c
		}
	}))
	t.Cleanup(server.Close)
	socket, _, err := websocket.DefaultDialer.DialContext(t.Context(), "ws"+strings.TrimPrefix(server.URL, "http"), nil)
	require.NoError(t, err)
	near, far = New(socket), <-accepted
	t.Cleanup(func() { near.Close(); far.Close() })
	return near, far
}

func TestMessagesBecomeAStream(t *testing.T) {
	near, far := joined(t)
	for _, m := range []string{"the ti", "", "de"} {
		require.NoError(t, far.WriteMessage(websocket.BinaryMessage, []byte(m)))
	}
	require.NoError(t, far.WriteMessage(websocket.TextMessage, []byte("aside")))
	require.NoError(t, far.WriteMessage(websocket.BinaryMessage, []byte(" turns")))
	require.NoError(t, far.WriteMessage(websocket.CloseMessage, websocket.FormatCloseMessage(websocket.CloseNormalClosure, "")))
	b, err := io.ReadAll(near)
	require.NoError(t, err, "a close is the stream's end")
	assert.Equal(t, "the tide turns", string(b))
}

func TestWritingMakesMessages(t *testing.T) {
	near, far := joined(t)
	n, err := near.Write([]byte("ebb"))
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	require.NoError(t, near.WriteText([]byte(`{"exit":0}`)))
	kind, b, err := far.ReadMessage()
	require.NoError(t, err)
	assert.Equal(t, websocket.BinaryMessage, kind)
	assert.Equal(t, "ebb", string(b))
	kind, b, err = far.ReadMessage()
	require.NoError(t, err)
	assert.Equal(t, websocket.TextMessage, kind)
	assert.Equal(t, `{"exit":0}`, string(b))
}
