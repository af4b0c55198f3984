package webaddress

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/records"
)

// says has the quay's program be one that is spoken to line by line: for each connection it is called with
// what comes, behind the head of a request.
func (q *quay) says(program func(conn net.Conn, requests func() (path string, ok bool))) {
	q.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(q.t, err)
	q.t.Cleanup(func() { l.Close() })
	q.program = l.Addr().String()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				from := bufio.NewReader(conn)
				program(conn, func() (string, bool) {
					r, err := http.ReadRequest(from)
					if err != nil {
						return "", false
					}
					return r.URL.Path, true
				})
			}()
		}
	}()
}

// A large answer is the visitor's to the last byte, however it comes from the program and through
// whatever streams; and one connection to the program does for all.
func TestLargeAnswers(t *testing.T) {
	cargo := make([]byte, 7<<20+13)
	for i := range cargo {
		cargo[i] = byte(i >> 3 * i)
	}
	for name, together := range map[string]bool{"alone": false, "together": true} {
		t.Run(name, func(t *testing.T) {
			var came atomic.Int32
			q := newQuay(t, nil)
			q.together = together
			q.says(func(conn net.Conn, next func() (string, bool)) {
				came.Add(1)
				for path, ok := next(); ok; path, ok = next() {
					switch path {
					case "/length":
						fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n", len(cargo))
						_, _ = conn.Write(cargo)
					case "/chunks":
						fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nTrailer: Tide\r\n\r\n%x\r\n", len(cargo))
						_, _ = conn.Write(cargo)
						_, _ = io.WriteString(conn, "\r\n0\r\nTide: high\r\n\r\n")
					case "/none":
						_, _ = io.WriteString(conn, "HTTP/1.1 304 Not Modified\r\nETag: \"7\"\r\n\r\n")
					case "/until-the-end":
						_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n")
						_, _ = conn.Write(cargo)
						return
					}
				}
			})
			c := q.browser()
			q.comes(c, "board", skipper)
			for _, path := range []string{"/length", "/none", "/chunks", "/length", "/until-the-end"} {
				a, err := c.Get(q.url("board", path))
				require.NoError(t, err)
				h := sha256.New()
				n, err := io.Copy(h, a.Body)
				require.NoError(t, err, path)
				a.Body.Close()
				if path == "/none" {
					assert.Equal(t, http.StatusNotModified, a.StatusCode)
					assert.Equal(t, `"7"`, a.Header.Get("ETag"))
					continue
				}
				assert.EqualValues(t, len(cargo), n, path)
				assert.Equal(t, sha256.Sum256(cargo), [sha256.Size]byte(h.Sum(nil)), path)
				if path == "/chunks" {
					assert.Equal(t, "high", a.Trailer.Get("Tide"))
				}
			}
			assert.EqualValues(t, 1, came.Load())
			a, err := c.Head(q.url("board", "/length"))
			require.NoError(t, err)
			a.Body.Close()
			assert.EqualValues(t, len(cargo), a.ContentLength)
		})
	}
}

// A program may end a connection that is kept, with a word or without: the next request does not notice.
func TestAProgramThatEndsItsConnections(t *testing.T) {
	for name, x := range map[string]struct {
		last     string
		together bool
	}{
		"without a word":           {"", false},
		"without a word, together": {"", true},
		"for the time":             {"HTTP/1.1 408 Request Timeout\r\nConnection: close\r\nContent-Length: 0\r\n\r\n", false},
		"for the time, together":   {"HTTP/1.1 408 Request Timeout\r\nConnection: close\r\nContent-Length: 0\r\n\r\n", true},
	} {
		t.Run(name, func(t *testing.T) {
			q := newQuay(t, nil)
			q.together = x.together
			over := make(chan bool, 1)
			q.says(func(conn net.Conn, next func() (string, bool)) {
				if _, ok := next(); ok {
					_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nahoy")
					<-over // the answer has come
					_, _ = io.WriteString(conn, x.last)
				}
			})
			c := q.browser()
			q.comes(c, "board", skipper)
			for range 20 {
				a, body := q.get(c, q.url("board", "/"), nil)
				require.Equal(t, http.StatusOK, a.StatusCode, body)
				require.Equal(t, "ahoy", body)
				over <- true
			}
		})
	}
}

// A connection that is kept counts as long as nothing has come: neither the end, nor what nobody asked for.
func TestAKeptConnectionIsQuiet(t *testing.T) {
	for name, act := range map[string]func(far net.Conn){
		"ended":   func(far net.Conn) { far.Close() },
		"chatted": func(far net.Conn) { _, _ = io.WriteString(far, "HTTP/1.1 200 OK\r\n\r\n") },
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		near, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		far, err := l.Accept()
		require.NoError(t, err)
		w := &way{Conn: &usedConn{Conn: near, leave: func() {}}}
		assert.True(t, w.quiet())
		act(far)
		require.Eventually(t, func() bool { return !w.quiet() }, 10*time.Second, time.Millisecond, name)
		near.Close()
		assert.False(t, w.quiet())
		far.Close()
		l.Close()
	}
}

// What a program says before its answer reaches the visitor.
func TestEarlyHints(t *testing.T) {
	q := newQuay(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Link", "</tides.css>; rel=preload")
		w.WriteHeader(http.StatusEarlyHints)
		fmt.Fprint(w, "high")
	}))
	c := q.browser()
	q.comes(c, "board", skipper)
	var hints []string
	r, err := http.NewRequestWithContext(httptrace.WithClientTrace(t.Context(), &httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
		hints = append(hints, strconv.Itoa(code)+" "+h.Get("Link"))
		return nil
	}}), http.MethodGet, q.url("board", "/"), nil)
	require.NoError(t, err)
	a, err := c.Do(r)
	require.NoError(t, err)
	defer a.Body.Close()
	b, err := io.ReadAll(a.Body)
	require.NoError(t, err)
	assert.Equal(t, "high", string(b))
	assert.Equal(t, []string{"103 </tides.css>; rel=preload"}, hints)
}

// A program that comes to no end before its answer takes nothing of the service, and is told of.
func TestAProgramThatSpeaksOtherwise(t *testing.T) {
	for name, x := range map[string]struct{ says, again, want string }{
		"a head without end":   {"HTTP/1.1 200 OK\r\nTide: ", strings.Repeat("high", 1000), "the head of the answer has more than 1048576 bytes"},
		"on and on":            {"", "HTTP/1.1 103 Go On\r\n\r\n", "it says 6 times that it goes on"},
		"another way to speak": {"HTTP/1.1 101 Switching\r\nConnection: Upgrade\r\nUpgrade: tide\r\n\r\n", "", "it goes on with another protocol, unasked"},
	} {
		t.Run(name, func(t *testing.T) {
			q := newQuay(t, nil)
			q.says(func(conn net.Conn, next func() (string, bool)) {
				next()
				_, err := io.WriteString(conn, x.says)
				for err == nil && x.again != "" {
					_, err = io.WriteString(conn, x.again)
				}
			})
			c := q.browser()
			q.comes(c, "board", skipper)
			a, body := q.get(c, q.url("board", "/"), nil)
			assert.Equal(t, http.StatusBadGateway, a.StatusCode)
			assert.Contains(t, body, x.want)
		})
	}
}

// An answer that breaks off is one that breaks off for the visitor, too.
func TestAnAnswerThatBreaksOff(t *testing.T) {
	for _, length := range []int{large / 2, 4 * large} {
		q := newQuay(t, nil)
		q.says(func(conn net.Conn, next func() (string, bool)) {
			next()
			fmt.Fprintf(conn, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n", length)
			_, _ = conn.Write(make([]byte, length-1))
		})
		c := q.browser()
		q.comes(c, "board", skipper)
		a, err := c.Get(q.url("board", "/"))
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, a.Body)
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
		assert.Less(t, n, int64(length))
		a.Body.Close()
	}
}

// Where a visitor leaves, or may not be in any more, the program is told by the end of its connection,
// whatever it is about to say.
func TestAnAnswerThatNobodyWants(t *testing.T) {
	for name, leave := range map[string]func(*quay, *http.Response){
		"the visitor leaves": func(_ *quay, a *http.Response) { a.Body.Close() },
		"the address is taken back": func(q *quay, _ *http.Response) {
			q.change("board", func(a *records.WebAddress) { a.Sharing = records.WebTeam })
		},
	} {
		for kind, head := range map[string]string{"of a length": "Content-Length: 1099511627776", "in chunks": "Transfer-Encoding: chunked"} {
			t.Run(name+" "+kind, func(t *testing.T) {
				q := newQuay(t, nil)
				ended := make(chan error, 1)
				q.says(func(conn net.Conn, next func() (string, bool)) {
					next()
					_, err := io.WriteString(conn, "HTTP/1.1 200 OK\r\n"+head+"\r\n\r\n")
					piece := []byte("2000\r\n" + strings.Repeat("high", 2048) + "\r\n")
					for err == nil {
						_, err = conn.Write(piece)
					}
					ended <- err
				})
				c := q.browser()
				q.comes(c, "board", skipper)
				a, err := c.Get(q.url("board", "/"))
				require.NoError(t, err)
				_, err = io.CopyN(io.Discard, a.Body, 3<<20)
				require.NoError(t, err)
				leave(q, a)
				_, err = io.Copy(io.Discard, a.Body)
				assert.False(t, err == nil || errors.Is(err, io.EOF), "%v", err)
				assert.Error(t, <-ended)
			})
		}
	}
}
