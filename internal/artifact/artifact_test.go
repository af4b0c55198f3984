package artifact

import (
	"bytes"
	"context"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/archive"
	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/standin/registry"
)

// quay is a registry with two features of two versions.
type quay struct {
	*registry.Registry
	at       string
	requests atomic.Int64
}

func feature(id, version, script string) fstest.MapFS {
	return fstest.MapFS{id + "/devcontainer-feature.json": {Data: []byte(`{"id": "` + id + `", "version": "` + version + `", "name": "` + id + `", "description": "d"}`)},
		id + "/install.sh": {Data: []byte(script)}}
}

func openQuay(t *testing.T) *quay {
	t.Helper()
	r, err := registry.New(t.TempDir())
	require.NoError(t, err)
	q := &quay{Registry: r}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, a *http.Request) { q.requests.Add(1); r.ServeHTTP(w, a) }))
	t.Cleanup(server.Close)
	q.at = strings.TrimPrefix(server.URL, "http://")
	return q
}

func (q *quay) store(t *testing.T) *Store {
	return &Store{Folder: t.TempDir(), Keychain: authn.NewMultiKeychain()}
}

func (q *quay) publish(t *testing.T, files fs.FS) {
	t.Helper()
	require.NoError(t, q.store(t).Publish(t.Context(), files, q.at+"/skerry", "feature"))
}

func reference(t *testing.T, text string) definition.Reference {
	t.Helper()
	r, err := definition.ParseReference(text)
	require.NoError(t, err)
	return r
}

func script(t *testing.T, a definition.Artifact) string {
	t.Helper()
	b, err := fs.ReadFile(a.Files, "install.sh")
	require.NoError(t, err)
	return string(b)
}

func TestVersionsAreTags(t *testing.T) {
	q := openQuay(t)
	q.publish(t, feature("tide", "1.2.3", "echo 123"))
	q.publish(t, feature("tide", "1.3.0", "echo 130"))
	s := q.store(t)
	for tag, want := range map[string]string{"": "echo 130", ":1": "echo 130", ":1.2": "echo 123", ":1.2.3": "echo 123"} {
		a, err := s.Feature(t.Context(), reference(t, q.at+"/skerry/tide"+tag), "")
		require.NoError(t, err, tag)
		assert.Equal(t, want, script(t, a), tag)
	}
	versions, err := s.Versions(t.Context(), q.at+"/skerry/tide")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"1", "1.2", "1.2.3", "1.3", "1.3.0", "latest"}, versions)
	features, _, err := s.Collection(t.Context(), q.at+"/skerry")
	require.NoError(t, err)
	require.Len(t, features, 1)
	assert.Equal(t, "1.3.0", features[0].Version)
}

func TestAPinnedDigestNeedsNoRegistry(t *testing.T) {
	q := openQuay(t)
	q.publish(t, feature("tide", "1.0.0", "echo old"))
	s := q.store(t)
	old, err := s.Feature(t.Context(), reference(t, q.at+"/skerry/tide:1"), "")
	require.NoError(t, err)
	q.publish(t, feature("tide", "1.0.1", "echo new"))
	before := q.requests.Load()
	again, err := s.Feature(t.Context(), reference(t, q.at+"/skerry/tide:1"), old.Digest)
	require.NoError(t, err)
	assert.Equal(t, "echo old", script(t, again))
	assert.Equal(t, before, q.requests.Load(), "what is kept by digest is not asked for")

	offline := &Store{Folder: s.Folder, Offline: true}
	known, err := offline.Feature(t.Context(), reference(t, q.at+"/skerry/tide:1"), "")
	require.NoError(t, err)
	assert.Equal(t, "echo old", script(t, known), "what the tag stood for last")
	_, err = offline.Feature(t.Context(), reference(t, q.at+"/skerry/tide:1.0.1"), "")
	assert.ErrorIs(t, err, definition.ErrOffline)
	_, err = s.Feature(t.Context(), reference(t, q.at+"/skerry/tide:1"), "sha256:"+strings.Repeat("0", 64))
	assert.Equal(t, "not-found", fault.Code(err))
}

// Several processes fill one cache at the same moment.
func TestOneCacheForMany(t *testing.T) {
	q := openQuay(t)
	q.publish(t, feature("tide", "1.0.0", strings.Repeat("echo tide\n", 10_000)))
	folder := t.TempDir()
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			s := &Store{Folder: folder, Keychain: authn.NewMultiKeychain()}
			a, err := s.Feature(t.Context(), reference(t, q.at+"/skerry/tide:1"), "")
			if assert.NoError(t, err) {
				assert.Len(t, script(t, a), 100_000)
			}
		})
	}
	all.Wait()
	kept, err := os.ReadDir(folder + "/content")
	require.NoError(t, err)
	assert.Len(t, kept, 1, "nothing half unpacked is left")
}

func TestRegistriesThatDoNotGive(t *testing.T) {
	q := openQuay(t)
	q.publish(t, feature("tide", "1.0.0", "true"))
	s := q.store(t)
	_, err := s.Feature(t.Context(), reference(t, q.at+"/skerry/gone"), "")
	assert.Equal(t, "not-found", fault.Code(err))
	assert.False(t, fault.IsTransient(err))
	q.Fail(100)
	_, err = s.Feature(t.Context(), reference(t, q.at+"/skerry/tide"), "")
	assert.Equal(t, "registry-down", fault.Code(err))
	assert.True(t, fault.IsTransient(err))
	_, err = s.Feature(t.Context(), reference(t, "127.0.0.1:1/skerry/tide"), "")
	assert.True(t, fault.IsTransient(err), "%v", err)
}

func TestAPrivateRegistryWantsItsCredentials(t *testing.T) {
	q := openQuay(t)
	q.publish(t, feature("tide", "1.0.0", "true"))
	q.Protect("skerry/", "crew", "lantern")
	_, err := q.store(t).Feature(t.Context(), reference(t, q.at+"/skerry/tide"), "")
	assert.Equal(t, "registry-needs-credentials", fault.Code(err))
	// The usual registry configuration file counts.
	folder := t.TempDir()
	t.Setenv("DOCKER_CONFIG", folder)
	require.NoError(t, os.WriteFile(folder+"/config.json", []byte(`{"auths": {"`+q.at+`": {"auth": "Y3JldzpsYW50ZXJu"}}}`), 0o600))
	_, err = (&Store{Folder: t.TempDir()}).Feature(t.Context(), reference(t, q.at+"/skerry/tide"), "")
	assert.NoError(t, err)
}

func TestArchivesByHTTPS(t *testing.T) {
	var b bytes.Buffer
	files, err := fs.Sub(feature("tide", "1.0.0", "echo archive"), "tide")
	require.NoError(t, err)
	require.NoError(t, archive.Pack(&b, files))
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/down"):
			w.WriteHeader(http.StatusBadGateway)
		case strings.HasPrefix(r.URL.Path, "/away"):
			http.Redirect(w, r, "http://127.0.0.1:1/devcontainer-feature-tide.tgz", http.StatusFound)
		default:
			_, _ = w.Write(b.Bytes())
		}
	}))
	defer server.Close()
	s := &Store{Folder: t.TempDir(), HTTP: server.Client()}
	ref := reference(t, server.URL+"/devcontainer-feature-tide.tgz")
	a, err := s.Feature(t.Context(), ref, "")
	require.NoError(t, err)
	assert.Equal(t, "echo archive", script(t, a))
	_, err = s.Feature(t.Context(), ref, "sha256:"+strings.Repeat("0", 64))
	var mismatch *definition.Mismatch
	require.ErrorAs(t, err, &mismatch)
	assert.Equal(t, a.Digest, mismatch.Got)
	_, err = (&Store{Folder: s.Folder, Offline: true}).Feature(t.Context(), ref, "")
	assert.NoError(t, err)
	_, err = s.Feature(t.Context(), reference(t, server.URL+"/down/devcontainer-feature-tide.tgz"), "")
	assert.True(t, fault.IsTransient(err))
	_, err = s.Feature(t.Context(), reference(t, server.URL+"/away/devcontainer-feature-tide.tgz"), "")
	assert.ErrorContains(t, err, "without https")
}

func TestAFetchThatIsGivenUpLeavesNothing(t *testing.T) {
	q := openQuay(t)
	q.publish(t, feature("tide", "1.0.0", "true"))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	s := q.store(t)
	_, err := s.Feature(ctx, reference(t, q.at+"/skerry/tide"), "")
	assert.Error(t, err)
	_, err = os.Stat(s.Folder + "/content")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}
