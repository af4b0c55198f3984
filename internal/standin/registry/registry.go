// Package registry is a stand-in for an image registry: the registry of
// go-containerregistry on loopback, with its blobs on disk, and a switch that makes it fail.
package registry

import (
	"io"
	"log"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"

	"github.com/google/go-containerregistry/pkg/registry"
)

// Registry is the stand-in.
type Registry struct {
	handler  http.Handler
	failures atomic.Int64
}

// New makes a registry that keeps its blobs below folder.
func New(folder string) (*Registry, error) {
	blobs := filepath.Join(folder, "blobs")
	if err := os.MkdirAll(blobs, 0o755); err != nil {
		return nil, err
	}
	return &Registry{handler: registry.New(registry.Logger(log.New(io.Discard, "", 0)), registry.WithBlobHandler(registry.NewDiskBlobHandler(blobs)))}, nil
}

// Fail makes the next n requests for manifests answer 503.
func (r *Registry) Fail(n int) { r.failures.Store(int64(n)) }

// ServeHTTP serves the registry's interface.
func (r *Registry) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	if strings.Contains(q.URL.Path, "/manifests/") && r.failures.Add(-1) >= 0 {
		http.Error(w, "the registry is out of order", http.StatusServiceUnavailable)
		return
	}
	r.handler.ServeHTTP(w, q)
}
