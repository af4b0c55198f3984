package egress

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"time"

	"domicile/internal/fault"
	"domicile/internal/netspace"
)

// StatusUnasked is the answer of the proxy for an address that is not asked. No server
// sends it, so that what git prints of it can be told from a git host's own refusal.
const StatusUnasked = 470

// proxy is an HTTP proxy (RFC 9110, section 9.3.6) whose every connection goes through the
// gate. Programs that the service runs for people use it.
func (g *Gate) proxy(log *slog.Logger) http.Handler {
	transport := g.Transport()
	forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.Out.Host = r.In.Host
	}, Transport: transport, FlushInterval: -1, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug),
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) { http.Error(w, err.Error(), status(err)) }}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodConnect:
			g.connect(w, r)
		case r.URL.Scheme == "http" && r.URL.Host != "":
			forward.ServeHTTP(w, r)
		default:
			http.Error(w, "this is a proxy", http.StatusBadRequest)
		}
	})
}

func status(err error) int {
	switch {
	case fault.Code(err) == "address-not-asked":
		return StatusUnasked
	case errors.Is(err, context.DeadlineExceeded):
		return http.StatusGatewayTimeout
	}
	return http.StatusBadGateway
}

func (g *Gate) connect(w http.ResponseWriter, r *http.Request) {
	far, err := g.DialContext(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), status(err))
		return
	}
	defer far.Close()
	hijacker, ok := w.(http.Hijacker)
	if !ok {
		http.Error(w, "this connection cannot be taken over", http.StatusInternalServerError)
		return
	}
	near, buffered, err := hijacker.Hijack()
	if err != nil {
		return
	}
	defer near.Close()
	if _, err := io.WriteString(near, "HTTP/1.1 200 Connection established\r\n\r\n"); err != nil {
		return
	}
	netspace.Both(far, near, buffered)
}

// serve serves the proxy on a listener until it closes.
func (g *Gate) serve(l net.Listener, log *slog.Logger) {
	server := &http.Server{Handler: g.proxy(log), ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	_ = server.Serve(l) // ends with the listener
}
