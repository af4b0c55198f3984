package webaddress

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/textproto"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// idleFor is how long a connection to a program is kept that nobody uses.
	idleFor = 30 * time.Second
	// mostIdle is how many are kept for one address.
	mostIdle = 32
	// longestHead is how long the head of an answer may be, in bytes.
	longestHead = 1 << 20
	// mostEarly is how many answers of the kind "go on" (1xx) may come before the answer.
	mostEarly = 5
	// large is from how many bytes on the kernel passes the body of an answer on.
	large = 64 << 10
	// partOfBody is after how many bytes it is told that it does.
	partOfBody = 64 << 20
)

// kept carries requests without a body, which are most, over HTTP/1.1 and connections that it keeps.
// Package http's own transport has two goroutines for each connection; here the one that asks does all.
type kept struct {
	dial func(context.Context) (net.Conn, error)

	mu    sync.Mutex
	idle  []*way // the one that was used last at the end
	going *time.Timer
}

// way is a connection to a program.
type way struct {
	net.Conn
	from *bufio.Reader
	to   *bufio.Writer
	used func() // tells that something passes by the kernel's hand
	left int64  // how many bytes of a head may still come
	said bool   // something has come since it was asked
	idle time.Time
}

// carries tells whether a request is one of those.
func (k *kept) carries(r *http.Request) bool {
	return (r.Method == http.MethodGet || r.Method == http.MethodHead) && r.URL.Scheme == "http" &&
		(r.Body == nil || r.Body == http.NoBody) && r.Header.Get("Upgrade") == "" && r.Header.Get("Expect") == ""
}

// roundTrip carries one request. A large body of the answer is read at once, and goes to the visitor by
// the kernel's hand where both are sockets.
func (k *kept) roundTrip(r *http.Request, visitor http.ResponseWriter) (*http.Response, error) {
	for {
		w, fresh, err := k.take(r.Context())
		if err != nil {
			return nil, err
		}
		stop := context.AfterFunc(r.Context(), func() { w.Close() })
		a, err := w.ask(r)
		if err == nil && !fresh && a.Close && a.StatusCode == http.StatusRequestTimeout {
			err, w.said = errGone, false // it was said of the connection, before the request came
		}
		if err == nil {
			k.follow(a, w, stop, visitor)
			return a, nil
		}
		stop()
		w.Close()
		switch {
		case r.Context().Err() != nil:
			return nil, r.Context().Err()
		case fresh || w.said: // else the program had ended a connection that was kept
			return nil, err
		}
	}
}

// errGone is that the program gave up a connection that was kept.
var errGone = errors.New("the program gave up the connection")

// take gives a connection that was kept, or a fresh one.
func (k *kept) take(ctx context.Context) (w *way, fresh bool, err error) {
	for {
		if w = k.last(); w == nil {
			break
		}
		if w.quiet() {
			return w, false, nil
		}
		w.Close()
	}
	conn, err := k.dial(ctx)
	if err != nil {
		return nil, true, err
	}
	w = &way{Conn: conn, used: func() {}}
	if c, counts := conn.(interface{ Used() }); counts {
		w.used = c.Used
	}
	w.from, w.to = bufio.NewReader(w), bufio.NewWriter(conn)
	return w, true, nil
}

// last gives the connection that was used last; nil: none is kept.
func (k *kept) last() (w *way) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if last := len(k.idle) - 1; last >= 0 {
		w, k.idle = k.idle[last], k.idle[:last]
	}
	return w
}

// quiet tells whether nothing has come since the last answer: neither the end, nor what nobody asked for.
func (w *way) quiet() bool {
	socket := w.socket()
	if socket == nil {
		return true // it shows when it is used
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return false
	}
	quiet := false
	err = raw.Read(func(fd uintptr) bool {
		_, _, err := unix.Recvfrom(int(fd), make([]byte, 1), unix.MSG_PEEK|unix.MSG_DONTWAIT)
		quiet = err == unix.EAGAIN
		return true
	})
	return err == nil && quiet
}

// keep takes a connection back.
func (k *kept) keep(w *way) {
	w.idle = time.Now()
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.idle) == mostIdle {
		w.Close()
		return
	}
	k.idle = append(k.idle, w)
	if k.going == nil {
		k.going = time.AfterFunc(idleFor, k.tidy)
	}
}

// tidy closes what was not used for long.
func (k *kept) tidy() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.idle = slices.DeleteFunc(k.idle, func(w *way) bool {
		old := time.Since(w.idle) >= idleFor
		if old {
			w.Close()
		}
		return old
	})
	if k.going = nil; len(k.idle) > 0 {
		k.going = time.AfterFunc(idleFor-time.Since(k.idle[0].idle), k.tidy)
	}
}

// close closes all that is kept.
func (k *kept) close() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, w := range k.idle {
		w.Close()
	}
	k.idle = nil
}

// errLongHead is told of a program that does not come to an end with the head of an answer.
var errLongHead = fmt.Errorf("the head of the answer has more than %d bytes", longestHead)

// Read reads from the program.
func (w *way) Read(p []byte) (int, error) {
	if w.left <= 0 {
		return 0, errLongHead
	}
	n, err := w.Conn.Read(p[:min(int64(len(p)), w.left)])
	w.left -= int64(n)
	w.said = w.said || n > 0
	return n, err
}

// ask sends a request and reads the head of the answer.
func (w *way) ask(r *http.Request) (*http.Response, error) {
	w.left, w.said = longestHead, false
	err := r.Write(w.to)
	if err == nil {
		err = w.to.Flush()
	}
	if err != nil {
		return nil, err
	}
	trace := httptrace.ContextClientTrace(r.Context())
	for range mostEarly + 1 {
		a, err := http.ReadResponse(w.from, r)
		if err != nil {
			return nil, err
		}
		if a.StatusCode >= http.StatusOK {
			w.left = math.MaxInt64 // of a body as much as there is
			return a, nil
		}
		if a.StatusCode == http.StatusSwitchingProtocols {
			return nil, errors.New("it goes on with another protocol, unasked")
		}
		if trace != nil && trace.Got1xxResponse != nil {
			if err := trace.Got1xxResponse(a.StatusCode, textproto.MIMEHeader(a.Header)); err != nil {
				return nil, err
			}
		}
	}
	return nil, fmt.Errorf("it says %d times that it goes on", mostEarly+1)
}

// follow has the connection kept once the answer's body is read, or closed where that is given up.
func (k *kept) follow(a *http.Response, w *way, stop func() bool, visitor http.ResponseWriter) {
	again := !a.Close
	over := func(read bool) {
		if stop() && read && again && w.from.Buffered() == 0 {
			k.keep(w)
		} else {
			w.Close()
		}
	}
	if a.Body == http.NoBody {
		over(true)
		return
	}
	b := &body{ReadCloser: a.Body, wanted: a.Request.Context(), over: over, atOnce: a.ContentLength >= 0 && a.ContentLength <= int64(w.from.Buffered())}
	to, passes := visitor.(io.ReaderFrom)
	if near := w.socket(); passes && near != nil && a.ContentLength >= large {
		b.pass, b.atOnce = func() error { return w.pass(visitor, to, near, a.ContentLength) }, true
	}
	a.Body = b
}

// socket is the socket below, where the connection is one; or nil.
func (w *way) socket() *net.TCPConn {
	conn := w.Conn
	for {
		of, wraps := conn.(interface{ NetConn() net.Conn })
		if !wraps {
			break
		}
		conn = of.NetConn()
	}
	socket, _ := conn.(*net.TCPConn)
	return socket
}

// pass brings a body of n bytes to the visitor: what was read with the head, and the rest from the socket,
// which the kernel can do alone.
func (w *way) pass(visitor io.Writer, to io.ReaderFrom, near *net.TCPConn, n int64) error {
	first, err := w.from.Peek(int(min(int64(w.from.Buffered()), n)))
	if err == nil {
		_, err = visitor.Write(first)
	}
	if err != nil {
		return err
	}
	if _, err := w.from.Discard(len(first)); err != nil {
		return err
	}
	for n -= int64(len(first)); n > 0; {
		part := min(n, partOfBody)
		passed, err := to.ReadFrom(&io.LimitedReader{R: near, N: part})
		if err == nil && passed < part {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		w.used()
		n -= part
	}
	return nil
}

// body is the body of an answer.
type body struct {
	io.ReadCloser
	pass func() error // brings all of it to the visitor; nil: it is read
	over func(read bool)
	done bool
	// wanted ends with who asked.
	wanted context.Context
	// atOnce says that nobody need see to it that what has come is sent on meanwhile: all is there, or is
	// passed on as it comes, by who alone may write to the visitor then.
	atOnce bool
}

// Read reads some of it; or nothing, where it brings all of it to the visitor itself.
func (b *body) Read(p []byte) (n int, err error) {
	if b.done {
		return 0, io.EOF
	}
	if b.pass == nil {
		n, err = b.ReadCloser.Read(p)
	} else if err = b.pass(); err == nil {
		err = io.EOF
	}
	if err != nil {
		b.end(errors.Is(err, io.EOF))
		if gone := b.wanted.Err(); gone != nil && !errors.Is(err, io.EOF) {
			err = gone // and not that the connection was closed for that
		}
	}
	return n, err
}

func (b *body) end(read bool) {
	if !b.done {
		b.done = true
		b.over(read)
	}
}

// Close gives up what is not read.
func (b *body) Close() error {
	b.end(false)
	return nil
}
