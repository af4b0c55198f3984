package webaddress

import (
	"context"
	"crypto/tls"
	"domicile/internal/forwarded"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"time"

	"domicile/internal/fault"
)

// proxy leads to the program at an address's port.
func (s *Server) proxy(p place, visitor *flushing, asked *http.Request) http.Handler {
	host, port := "localhost", p.address.Port
	if service, number, other := strings.Cut(p.address.Port, ":"); other {
		host, port = service, number
	}
	target := net.JoinHostPort(host, port)
	own := &url.URL{Scheme: p.address.Protocol, Host: target}
	csp := s.ancestors(asked, p)
	var proxy *httputil.ReverseProxy // of this request alone
	proxy = &httputil.ReverseProxy{
		BufferPool:    buffers,
		ErrorLog:      s.broken,
		FlushInterval: 5 * time.Millisecond, // of an answer whose length is known; any other is passed on at once
		Transport:     carried{s.transport(p, target), visitor.ResponseWriter},
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(own)
			r.Out.Host = r.In.Host
			r.SetXForwarded()
			if forwarded.OverTLS(r.In) {
				r.Out.Header.Set("X-Forwarded-Proto", "https")
			}
			if p.address.Local {
				callLocal(r, own)
			}
			hideCookies(r.Out)
		},
		ModifyResponse: func(a *http.Response) error {
			if a.StatusCode == http.StatusBadRequest && own.Scheme == "http" && navigates(asked) && s.speaksTLS(asked.Context(), p, target) {
				return errTLS
			}
			narrowCookies(a.Header)
			a.Header.Add("Content-Security-Policy", csp) // beside the program's own: the narrower counts
			bringHome(a, target)
			if b, is := a.Body.(*body); is && b.atOnce {
				proxy.FlushInterval = 0
			}
			if a.StatusCode != http.StatusSwitchingProtocols { // that body is a connection
				a.Body = brokenBody{a.Body, visitor}
			}
			return nil
		},
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			if own.Scheme == "http" && !errors.Is(err, errTLS) && s.speaksTLS(r.Context(), p, target) {
				err = errTLS
			}
			s.unanswered(w, r, p, err)
		},
	}
	return proxy
}

// pool lends the buffers in which answers are copied: of each request one.
type pool struct{ sync.Pool }

var buffers = &pool{sync.Pool{New: func() any { return new([32 << 10]byte) }}}

// Get lends a buffer.
func (p *pool) Get() []byte { return p.Pool.Get().(*[32 << 10]byte)[:] }

// Put takes it back.
func (p *pool) Put(b []byte) { p.Pool.Put((*[32 << 10]byte)(b)) }

// callLocal has the program called by localhost and its own port: some insist on it.
func callLocal(r *httputil.ProxyRequest, own *url.URL) {
	r.Out.Host = own.Host
	if r.In.Header.Get("Origin") != "" {
		r.Out.Header.Set("Origin", own.String())
	}
	if from, err := url.Parse(r.In.Header.Get("Referer")); err == nil && from.Host == r.In.Host {
		from.Scheme, from.Host = own.Scheme, own.Host
		r.Out.Header.Set("Referer", from.String())
	}
}

// transport carries requests of one kind to the program. Connections to it are kept by the visitor's
// requests of the same address.
func (s *Server) transport(p place, target string) *carrier {
	key := transportKey{p.workspace.ID, target, p.address.Protocol}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.transports == nil {
		s.transports = newTransports()
	}
	if t, known := s.transports.Get(key); known {
		s.transports.Add(key, t)
		return t
	}
	t := &carrier{}
	t.kept.dial = func(ctx context.Context) (net.Conn, error) { return s.lines.dial(ctx, p.workspace, target) }
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) { return t.kept.dial(ctx) }
	// A program inside has no certificate that anybody knows; the way to it is private.
	trusting := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}
	t.usual = &http.Transport{DialContext: dial, TLSClientConfig: trusting, MaxIdleConnsPerHost: 32, IdleConnTimeout: 30 * time.Second, DisableCompression: true, ForceAttemptHTTP2: true, ExpectContinueTimeout: continueLimit}
	plain := new(http.Protocols)
	plain.SetUnencryptedHTTP2(true)
	t.second = &http.Transport{DialContext: dial, Protocols: plain, IdleConnTimeout: 30 * time.Second, DisableCompression: true}
	s.transports.Add(key, t)
	return t
}

// continueLimit is how long a program may take to say that it wants a body (100-continue) before the body is sent.
const continueLimit = time.Second

// errTLS is that a program speaks TLS where the address speaks plain HTTP.
var errTLS = errors.New("the program speaks TLS (https), and this address speaks plain http with it")

// tlsLimit bounds the look whether a program speaks TLS.
const tlsLimit = 2 * time.Second

// speaksTLS reports whether a program takes part in a TLS handshake.
func (s *Server) speaksTLS(ctx context.Context, p place, target string) bool {
	ctx, cancel := context.WithTimeout(ctx, tlsLimit)
	defer cancel()
	conn, err := s.lines.dial(ctx, p.workspace, target)
	if err != nil {
		return false
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	return tls.Client(conn, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}).HandshakeContext(ctx) == nil
}

// flushing passes on what has come of an answer before it broke off. ReverseProxy writes from one goroutine and
// flushes from another.
type flushing struct {
	http.ResponseWriter
	mu sync.Mutex
}

// Write writes some of the answer.
func (f *flushing) Write(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.ResponseWriter.Write(p)
}

// FlushError sends what was written.
func (f *flushing) FlushError() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return http.NewResponseController(f.ResponseWriter).Flush()
}

// Unwrap is for http.ResponseController.
func (f *flushing) Unwrap() http.ResponseWriter { return f.ResponseWriter }

// brokenBody sends on what has come when the rest of an answer does not.
type brokenBody struct {
	io.ReadCloser
	visitor *flushing
}

// Read reads some of it.
func (b brokenBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		_ = b.visitor.FlushError() // the error is the answer's, not the visitor's
	}
	return n, err
}

type transportKey struct {
	workspace int64
	target    string
	protocol  string
}

// carrier takes HTTP/2 without TLS where the request needs it, as gRPC does.
type carrier struct {
	kept          kept
	usual, second *http.Transport
}

// carried is a carrier for one visitor.
type carried struct {
	*carrier
	visitor http.ResponseWriter
}

// RoundTrip carries one request.
func (c carried) RoundTrip(r *http.Request) (*http.Response, error) {
	if c.kept.carries(r) && !isGRPC(r) {
		return c.kept.roundTrip(r, c.visitor)
	}
	if r.URL.Scheme == "http" && isGRPC(r) {
		return c.second.RoundTrip(r)
	}
	return c.usual.RoundTrip(r)
}

func isGRPC(r *http.Request) bool {
	return r.ProtoMajor == 2 && strings.HasPrefix(r.Header.Get("Content-Type"), "application/grpc")
}

func (c *carrier) close() {
	c.kept.close()
	c.usual.CloseIdleConnections()
	c.second.CloseIdleConnections()
}

// whyNot says in words what went wrong with an answer.
func whyNot(err error) string {
	var syntax tls.RecordHeaderError
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed):
		return "It ended the connection before it had answered."
	case errors.As(err, &syntax):
		return "It does not speak https, as the definition says that it does."
	}
	return "It does not speak as a web server does: " + err.Error() + "."
}

// unanswered says why the program did not answer.
func (s *Server) unanswered(w http.ResponseWriter, r *http.Request, p place, err error) {
	if r.Context().Err() != nil {
		return // who asked is gone, or may not be in any more
	}
	if errors.Is(err, errTLS) {
		say(w, r, notice{status: http.StatusBadGateway, title: "The program speaks https", text: "This address speaks plain http with it. Give the port \"protocol\": \"https\" in portsAttributes of the definition, or have it tried at once:",
			command: "domicile web " + p.workspace.Name + " " + p.address.Port + " -protocol https", console: s.o.Console + "/workspaces/" + p.workspace.Name})
		return
	}
	n := notice{status: http.StatusBadGateway, title: "The program did not answer", text: whyNot(err), console: s.o.Console + "/workspaces/" + p.workspace.Name}
	switch fault.Code(err) {
	case "nobody-listens":
		n = notice{status: http.StatusServiceUnavailable, title: "Nothing listens at port " + p.address.Port + " of " + p.workspace.Name + " yet", text: "This page goes on by itself when something does.", command: "domicile ports " + p.workspace.Name, console: n.console, again: true}
	case "agent-unreachable", "not-ready":
		n = notice{status: http.StatusServiceUnavailable, title: p.workspace.Name + " does not answer", text: "This page goes on by itself when it does.", command: "domicile address " + p.workspace.Name + " -test", console: n.console, again: true}
	}
	say(w, r, n)
}
