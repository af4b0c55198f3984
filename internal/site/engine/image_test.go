package engine

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/judge"
	"domicile/internal/plan"
)

// ring knows one password for every registry.
type ring struct{}

func (ring) Resolve(authn.Resource) (authn.Authenticator, error) {
	return &authn.Basic{Username: "harbour", Password: "master"}, nil
}

// What anybody may pull is pulled as anybody: a registry is not shown the service's credentials.
func TestWhatIsPulledAsAnybody(t *testing.T) {
	var shown atomic.Int32
	registry := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			shown.Add(1)
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="harbour"`)
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer registry.Close()
	s := newSite(t, "testanybody", t.TempDir())
	s.o.Keychain = ring{}
	image, err := plan.JudgeImage(strings.TrimPrefix(registry.URL, "http://")+"/skerry/charts:1", judge.Subject{})
	require.NoError(t, err)
	_, err = s.EnsurePublic(t.Context(), image, func(string) {})
	assert.Error(t, err)
	assert.Zero(t, shown.Load())
	_, err = s.EnsureImage(t.Context(), image, func(string) {})
	assert.Error(t, err)
	assert.Positive(t, shown.Load(), "for a definition they are")
}
