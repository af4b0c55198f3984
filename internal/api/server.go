// Package api is the service's HTTP interface. Its routes, requests and answers are
// generated from api/openapi.yaml; what stands here by hand is what each operation does,
// who may ask for it, and the few answers that are streams.
package api

import (
	"context"
	"crypto/subtle"
	"domicile/internal/forwarded"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	contract "domicile/api"
	"domicile/internal/artifact"
	"domicile/internal/gateway"
	"domicile/internal/guesses"
	"domicile/internal/hostkeys"
	"domicile/internal/longstream"
	"domicile/internal/portwatch"
	"domicile/internal/records"
	"domicile/internal/run"
	"domicile/internal/source"
	"domicile/internal/vault"
)

// Options says what the interface stands on.
type Options struct {
	Store   *records.Store
	Runner  *run.Runner
	Gateway *gateway.Server
	Source  *source.Fetcher
	// Artifacts fetches features and templates, with the credentials of Registries.
	Artifacts  *artifact.Store
	Registries *Registries
	// Vault keeps what people keep sealed.
	Vault *vault.Vault
	// Templates are the namespaces of the team's templates.
	Templates []string
	Log       *slog.Logger
	Version   string
	// Hosts are what the service knows of hosts that are reached over SSH.
	Hosts Hosts
	// Accounts are those at providers of rented instances.
	Accounts Accounts
	// SetupCode lets its holder make the first account.
	SetupCode string
	// SSH is the host:port that people are told to connect to.
	SSH string
	// HostKeys are the SSH server's keys.
	HostKeys *hostkeys.Folder
	// Clients are the command line's programs for people's own machines; nil: there are none.
	Clients *Clients
	// Example is the folder of the example that needs no network, made when somebody asks for it.
	Example string
	// Console serves what is not the API.
	Console http.Handler
	// Guesses slows down who guesses passwords.
	Guesses *guesses.Slowdown
	// Web serves the web addresses of ports; nil: there are none.
	Web WebServer
	// Proxies are those whose word about a request's sender is believed.
	Proxies forwarded.Proxies
	// Serving reports why connections are not accepted at this moment; nil: it is not asked.
	Serving func() error
	// MetricsToken opens /metrics beside an administrator's token; empty: nothing else does.
	MetricsToken string
	// Apart tells that untrusted text is read, and git works, where the host's files and
	// networks are not; else it says why.
	Apart string
}

// Server is the HTTP interface.
type Server struct {
	o       Options
	hub     *hub
	ports   *portwatch.Watch
	making  sync.Mutex // of the example
	streams longstream.Shelf
	serving context.Context // ends with the service
	metrics *metrics
	slow    *guesses.Slowdown
	setups  *guesses.Slowdown // of codes for the first account
}

var _ StrictServerInterface = (*Server)(nil)

// answerLimit bounds the work for one answer that is no stream.
const answerLimit = 2 * time.Minute

// New makes the interface. What it does beside answers ends with ctx.
func New(ctx context.Context, o Options) *Server {
	s := &Server{serving: ctx, o: o, hub: newHub(o.Store, o.Log), metrics: newMetrics(o.Store), slow: o.Guesses, setups: guesses.New()}
	s.ports = portwatch.New(ctx, watched{s}, func(w records.Workspace) {
		s.hub.pass(records.Event{Type: portsChanged, Account: w.Account, Workspace: w.Name})
	}, o.Log)
	return s
}

// Serve passes changes on to who listens, until ctx ends.
func (s *Server) Serve(ctx context.Context) {
	var both sync.WaitGroup
	defer both.Wait()
	both.Go(func() { s.turnOutGuests(ctx) })
	s.hub.serve(ctx)
}

// Handler is the whole HTTP interface.
func (s *Server) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.Recoverer, s.o.Proxies.Handler, s.metrics.measure, addressed, secure)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", s.readyz)
	r.Handle("/metrics", s.measurer(s.metrics.handler()))
	r.Get("/definition.schema.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/schema+json")
		w.Header().Set("Access-Control-Allow-Origin", "*") // editors in browsers read it too
		_, _ = w.Write(contract.DefinitionSchema)
	})
	r.Get("/clients/{file}", s.downloadClient)
	r.Get("/api/openapi.yaml", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		_, _ = w.Write(contract.Document)
	})
	r.Route("/api/v1", func(r chi.Router) {
		// A page of another origin must not act with the console's cookie.
		r.Use(http.NewCrossOriginProtection().Handler, paced(bodyLimit), s.authenticate)
		r.Get("/events", s.events)
		r.Get("/workspaces/{name}/terminal", s.terminal)
		r.Get("/workspaces/{name}/ssh", s.tunnel)
		r.Get("/workspaces/{name}/screen", s.screen)
		strict := NewStrictHandlerWithOptions(s, nil, StrictHTTPServerOptions{RequestErrorHandlerFunc: badRequest, ResponseErrorHandlerFunc: s.failed})
		HandlerWithOptions(strict, ChiServerOptions{BaseRouter: r.With(limited), ErrorHandlerFunc: badRequest})
		r.NotFound(func(w http.ResponseWriter, r *http.Request) {
			writeProblem(w, Problem{Title: "There is no " + r.URL.Path, Status: http.StatusNotFound, Code: "no-such-path"})
		})
	})
	r.NotFound(s.o.Console.ServeHTTP)
	if s.o.Web == nil {
		return r
	}
	addresses := s.o.Proxies.Handler(paced(0)(s.o.Web))
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if _, is := s.o.Web.Label(q.Host); is {
			addresses.ServeHTTP(w, q) // nothing of the console is there
			return
		}
		r.ServeHTTP(w, q)
	})
}

func limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), answerLimit)
		defer cancel()
		r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

// secure keeps pages from being framed and from loading anything from elsewhere.
func secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'; object-src 'none'")
		if overTLS, _ := r.Context().Value(secureKey).(bool); overTLS {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		next.ServeHTTP(w, r)
	})
}

// measurer lets in who measures the service: an administrator, or a program that has the
// token for it.
func (s *Server) measurer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if s.o.MetricsToken != "" && subtle.ConstantTimeCompare([]byte(token), []byte(s.o.MetricsToken)) == 1 {
			next.ServeHTTP(w, r)
			return
		}
		s.authenticate(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if err := administrator(r.Context()); err != nil {
				s.failed(w, r, err)
				return
			}
			next.ServeHTTP(w, r)
		})).ServeHTTP(w, r)
	})
}

// readyz tells whether requests can be answered.
func (s *Server) readyz(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.o.Store.Pool.Ping(ctx); err != nil {
		writeProblem(w, problemOf(err))
		return
	}
	if s.o.Serving != nil {
		if err := s.o.Serving(); err != nil {
			writeProblem(w, Problem{Title: "The service does not accept connections", Status: http.StatusServiceUnavailable, Code: "not-serving", Detail: optional(err.Error()),
				Remedy: optional("raise the limit of open files if it is short of them; else start the service again")})
			return
		}
	}
	_, _ = w.Write([]byte("ok\n"))
	if s.o.Apart != "" {
		_, _ = w.Write([]byte("warning: " + s.o.Apart + "\n"))
	}
}
