package webaddress

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gorilla/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
)

func TestStreamsAndUploads(t *testing.T) {
	upgrader := websocket.Upgrader{CheckOrigin: func(*http.Request) bool { return true }}
	mux := http.NewServeMux()
	mux.HandleFunc("/echo", func(w http.ResponseWriter, r *http.Request) {
		socket, err := upgrader.Upgrade(w, r, nil)
		if err != nil {
			return
		}
		defer socket.Close()
		for {
			kind, b, err := socket.ReadMessage()
			if err != nil || socket.WriteMessage(kind, b) != nil {
				return
			}
		}
	})
	mux.HandleFunc("/events", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for i := range 3 {
			fmt.Fprintf(w, "data: %d\n\n", i)
			_ = http.NewResponseController(w).Flush()
		}
		<-r.Context().Done()
	})
	mux.HandleFunc("/sum", func(w http.ResponseWriter, r *http.Request) {
		h := sha256.New()
		n, _ := io.Copy(h, r.Body)
		fmt.Fprintf(w, "%d %s", n, hex.EncodeToString(h.Sum(nil)))
	})
	mux.HandleFunc("/call", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Trailer", "Grpc-Status")
		w.Header().Set("Content-Type", "application/grpc")
		fmt.Fprint(w, r.Proto)
		w.Header().Set("Grpc-Status", "0")
	})
	app := httptest.NewUnstartedServer(mux)
	app.Config.Protocols = new(http.Protocols)
	app.Config.Protocols.SetHTTP1(true)
	app.Config.Protocols.SetUnencryptedHTTP2(true)
	app.Start()
	t.Cleanup(app.Close)
	q := newQuay(t, nil)
	q.program = app.Listener.Addr().String()
	c := q.browser()
	q.comes(c, "board", skipper)

	dialer := websocket.Dialer{Jar: c.Jar, NetDialContext: c.Transport.(*http.Transport).DialContext}
	address := "ws" + strings.TrimPrefix(q.url("board", "/echo"), "http")
	socket, _, err := dialer.Dial(address, http.Header{"Origin": {q.url("board", "")}})
	require.NoError(t, err)
	require.NoError(t, socket.WriteMessage(websocket.TextMessage, []byte("ahoy")))
	_, b, err := socket.ReadMessage()
	require.NoError(t, err)
	assert.Equal(t, "ahoy", string(b))
	_, a, err := dialer.Dial(address, http.Header{"Origin": {q.url("other", "")}})
	require.Error(t, err)
	assert.Equal(t, http.StatusForbidden, a.StatusCode)

	events, err := c.Get(q.url("board", "/events"))
	require.NoError(t, err)
	defer events.Body.Close()
	lines := bufio.NewScanner(events.Body)
	for i := range 3 {
		require.True(t, lines.Scan())
		assert.Equal(t, fmt.Sprintf("data: %d", i), lines.Text(), "each comes when it is sent")
		require.True(t, lines.Scan())
	}

	cargo := strings.Repeat("0123456789abcdef", 2<<20) // 32 MB
	sum := sha256.Sum256([]byte(cargo))
	answer, err := c.Post(q.url("board", "/sum"), "application/octet-stream", strings.NewReader(cargo))
	require.NoError(t, err)
	b, err = io.ReadAll(answer.Body)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, fmt.Sprintf("%d %s", len(cargo), hex.EncodeToString(sum[:])), string(b))

	// Who speaks HTTP/2 without TLS, as gRPC does, is answered so, with what comes behind the body.
	second := new(http.Protocols)
	second.SetUnencryptedHTTP2(true)
	call := &http.Client{Jar: c.Jar, Transport: &http.Transport{Protocols: second, DialContext: dialer.NetDialContext}}
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, q.url("board", "/call"), strings.NewReader("x"))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/grpc")
	answer, err = call.Do(r)
	require.NoError(t, err)
	b, err = io.ReadAll(answer.Body)
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, "HTTP/2.0", string(b))
	assert.Equal(t, "0", answer.Trailer.Get("Grpc-Status"))

	// What goes on ends when the address is changed.
	q.change("board", func(a *records.WebAddress) { a.Sharing = records.WebTeam })
	_ = socket.SetReadDeadline(time.Now().Add(10 * time.Second))
	_, _, err = socket.ReadMessage()
	var timeout net.Error
	assert.False(t, err == nil || errorsAs(err, &timeout) && timeout.Timeout(), "%v", err)
	assert.False(t, lines.Scan(), "the stream has ended")
}

func errorsAs(err error, target *net.Error) bool {
	e, is := err.(net.Error)
	*target = e
	return is
}
