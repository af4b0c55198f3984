package webaddress

import (
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
)

func TestWhereNothingListens(t *testing.T) {
	q := newQuay(t, tells)
	program := q.program
	q.program = "127.0.0.1:1"
	c := q.browser()
	q.comes(c, "board", skipper)
	a, body := q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusServiceUnavailable, a.StatusCode)
	assert.Contains(t, body, "Nothing listens at port 8080 of deck1 yet")
	assert.Contains(t, body, `http-equiv="refresh"`)
	q.program = program
	a, _ = q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusOK, a.StatusCode, "something does now")
	q.mu.Lock()
	q.states[1] = records.Stopped
	q.mu.Unlock()
	q.server.Forget("board")
	a, body = q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusServiceUnavailable, a.StatusCode)
	assert.Contains(t, body, "domicile start deck1")
}

// A program that insists on localhost is called so, and does not notice; its redirects stay at the
// address.
func TestAProgramThatInsistsOnLocalhost(t *testing.T) {
	q := newQuay(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host != "localhost:8080" || r.Header.Get("Origin") != "" && r.Header.Get("Origin") != "http://localhost:8080" {
			http.Error(w, "Invalid Host header", http.StatusForbidden)
			return
		}
		http.Redirect(w, r, "http://localhost:8080/tides?day=1", http.StatusFound)
	}))
	c := q.browser()
	q.comes(c, "board", skipper)
	a, _ := q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusForbidden, a.StatusCode)
	q.change("board", func(a *records.WebAddress) { a.Local = true })
	q.comes(c, "board", skipper)
	a, _ = q.get(c, q.url("board", "/"), http.Header{"Origin": {q.url("board", "")}})
	assert.Equal(t, http.StatusFound, a.StatusCode)
	assert.Equal(t, "/tides?day=1", a.Header.Get("Location"))
}

func TestAProgramWithACertificateOfItsOwn(t *testing.T) {
	app := httptest.NewTLSServer(tells)
	t.Cleanup(app.Close)
	q := newQuay(t, nil)
	q.program = app.Listener.Addr().String()
	q.change("board", func(a *records.WebAddress) { a.Protocol = "https" })
	c := q.browser()
	q.comes(c, "board", skipper)
	a, body := q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusOK, a.StatusCode, body)
}

// What is no web server is told so, in words.
func TestAProgramThatIsNoWebServer(t *testing.T) {
	for name, c := range map[string]struct{ says, protocol, want string }{
		"nothing":                {"", "http", "It ended the connection before it had answered."},
		"another protocol":       {"220 quay ready\r\n", "http", "It does not speak as a web server does: "},
		"no TLS where it is due": {"HTTP/1.1 200 OK\r\n\r\n", "https", "It does not speak https, as the definition says that it does."},
	} {
		t.Run(name, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			t.Cleanup(func() { l.Close() })
			go func() {
				for {
					conn, err := l.Accept()
					if err != nil {
						return
					}
					_, _ = conn.Read(make([]byte, 4096))
					_, _ = io.WriteString(conn, c.says)
					conn.Close()
				}
			}()
			q := newQuay(t, nil)
			q.program = l.Addr().String()
			q.change("board", func(a *records.WebAddress) { a.Protocol = c.protocol })
			b := q.browser()
			q.comes(b, "board", skipper)
			a, body := q.get(b, q.url("board", "/"), nil)
			assert.Equal(t, http.StatusBadGateway, a.StatusCode)
			assert.Contains(t, body, c.want)
		})
	}
}

// An answer that comes before the request ends arrives at once.
func TestAnAnswerBeforeTheUploadEnds(t *testing.T) {
	for name, expect := range map[string]string{"plainly": "", "after a question": "100-continue"} {
		t.Run(name, func(t *testing.T) {
			q := newQuay(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Connection", "close")
				http.Error(w, "too large", http.StatusRequestEntityTooLarge)
			}))
			c := q.browser()
			q.comes(c, "board", skipper)
			body, rest := io.Pipe() // what comes after the beginning does not come
			t.Cleanup(func() { rest.Close() })
			if expect == "" {
				go func() { _, _ = rest.Write(make([]byte, 1<<20)) }()
			}
			r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, q.url("board", "/"), body)
			require.NoError(t, err)
			if expect != "" {
				r.Header.Set("Expect", expect)
			}
			a, err := c.Do(r)
			require.NoError(t, err)
			defer a.Body.Close()
			assert.Equal(t, http.StatusRequestEntityTooLarge, a.StatusCode)
		})
	}
}

// A program that sends each piece back as it comes is heard while the visitor still sends.
func TestPiecesComeBackWhileOneSends(t *testing.T) {
	q := newQuay(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		flow := http.NewResponseController(w)
		_ = flow.EnableFullDuplex()
		w.WriteHeader(http.StatusOK)
		_ = flow.Flush()
		for b := make([]byte, 4); ; {
			if _, err := io.ReadFull(r.Body, b); err != nil {
				return
			}
			_, _ = w.Write(b)
			_ = flow.Flush()
		}
	}))
	c := q.browser()
	q.comes(c, "board", skipper)
	body, to := io.Pipe()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, q.url("board", "/"), body)
	require.NoError(t, err)
	go func() { _, _ = io.WriteString(to, "ahoy") }()
	a, err := c.Do(r)
	require.NoError(t, err)
	defer a.Body.Close()
	for range 3 {
		b := make([]byte, 4)
		_, err := io.ReadFull(a.Body, b)
		require.NoError(t, err)
		assert.Equal(t, "ahoy", string(b))
		go func() { _, _ = io.WriteString(to, "ahoy") }()
	}
	to.Close()
}

// What came before a program died is seen.
func TestAProgramThatDiesInItsAnswer(t *testing.T) {
	for _, length := range []string{"1000", "100000000"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = conn.Read(make([]byte, 4096))
				_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: "+length+"\r\n\r\ntide")
				conn.Close()
			}
		}()
		q := newQuay(t, nil)
		q.program = l.Addr().String()
		c := q.browser()
		q.comes(c, "board", skipper)
		r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, q.url("board", "/"), nil)
		require.NoError(t, err)
		a, err := c.Do(r)
		require.NoError(t, err)
		b, err := io.ReadAll(a.Body)
		a.Body.Close()
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
		assert.Equal(t, "tide", string(b))
	}
}

// A page says that the program speaks TLS if the definition does not.
func TestAProgramThatSpeaksTLSUnasked(t *testing.T) {
	app := httptest.NewTLSServer(tells)
	t.Cleanup(app.Close)
	q := newQuay(t, nil)
	q.program = app.Listener.Addr().String()
	c := q.browser()
	q.comes(c, "board", skipper)
	a, body := q.get(c, q.url("board", "/"), nil)
	assert.Equal(t, http.StatusBadGateway, a.StatusCode)
	assert.Contains(t, body, "The program speaks https")
	assert.Contains(t, body, "domicile web deck1 8080 -protocol https")
}
