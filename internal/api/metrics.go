package api

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"domicile/internal/records"
)

// metrics are the numbers at /metrics.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
	store    *records.Store
}

var workspacesDesc = prometheus.NewDesc("domicile_workspaces", "Workspaces by state.", []string{"state"}, nil)

func newMetrics(store *records.Store) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), store: store, requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "domicile_http_request_seconds", Help: "How long answers took.", Buckets: []float64{0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10},
	}, []string{"method", "route", "status"})}
	m.registry.MustRegister(m.requests, m, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{ErrorHandling: promhttp.ContinueOnError})
}

// measure notes how long each answer took, streams left out.
func (m *metrics) measure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begun := time.Now()
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(wrapped, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" || wrapped.Header().Get("Content-Type") == "text/event-stream" || wrapped.Status() == http.StatusSwitchingProtocols {
			return
		}
		m.requests.WithLabelValues(r.Method, route, strconv.Itoa(wrapped.Status())).Observe(time.Since(begun).Seconds())
	})
}

// Describe and Collect make the metrics a prometheus.Collector of what the records count.
func (m *metrics) Describe(c chan<- *prometheus.Desc) { c <- workspacesDesc }

// Collect counts the workspaces by state; while the database is gone it gives nothing.
func (m *metrics) Collect(c chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	counts, err := m.store.CountWorkspaces(ctx)
	if err != nil {
		return
	}
	for state, n := range counts {
		c <- prometheus.MustNewConstMetric(workspacesDesc, prometheus.GaugeValue, float64(n), state)
	}
}
