// Package registry is a stand-in for an image registry: the registry of
// go-containerregistry on loopback, with its blobs on disk, and a switch that makes it fail.
package registry

import (
	"io"
	"log"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/google/go-containerregistry/pkg/registry"
)

// Registry is the stand-in.
type Registry struct {
	handler  http.Handler
	failures atomic.Int64

	mu    sync.RWMutex
	locks []lock
}

// lock is a part of the registry that wants credentials.
type lock struct{ prefix, user, password string }

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

// Protect makes what lies below a prefix of names want these credentials, until the
// returned function is called.
func (r *Registry) Protect(prefix, user, password string) (open func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.locks = append(r.locks, lock{prefix, user, password})
	return func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.locks = slices.DeleteFunc(r.locks, func(l lock) bool { return l.prefix == prefix })
	}
}

func (r *Registry) allowed(w http.ResponseWriter, q *http.Request) bool {
	user, password, given := q.BasicAuth()
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, l := range r.locks {
		asked := strings.HasPrefix(q.URL.Path, "/v2/"+l.prefix)
		// A client learns from the root that credentials may be wanted.
		if asked && (user != l.user || password != l.password) || q.URL.Path == "/v2/" && given && (user != l.user || password != l.password) || q.URL.Path == "/v2/" && !given {
			w.Header().Set("WWW-Authenticate", `Basic realm="registry"`)
			http.Error(w, `{"errors": [{"code": "UNAUTHORIZED", "message": "credentials are wanted"}]}`, http.StatusUnauthorized)
			return false
		}
	}
	return true
}

// ServeHTTP serves the registry's interface.
func (r *Registry) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	if strings.Contains(q.URL.Path, "/manifests/") && r.failures.Add(-1) >= 0 {
		http.Error(w, "the registry is out of order", http.StatusServiceUnavailable)
		return
	}
	if r.allowed(w, q) {
		r.handler.ServeHTTP(w, q)
	}
}
