// Package artifact fetches features, templates and what is known of images from
// registries and by https, and keeps what was fetched by digest. The cache is shared by
// all runs and all processes: content is unpacked beside it and moved into its place in
// one step, so that a reader sees all of it or nothing.
package artifact

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"

	"domicile/internal/archive"
	"domicile/internal/definition"
	"domicile/internal/fault"
)

// The media types of the standard's artifacts ("Distribution").
const (
	LayerType           = "application/vnd.devcontainers.layer.v1+tar"
	ConfigType          = "application/vnd.devcontainers"
	CollectionLayerType = "application/vnd.devcontainers.collection.layer.v1+json"
	MetadataAnnotation  = "dev.containers.metadata"
)

// maxArtifact bounds a compressed artifact, in bytes.
const maxArtifact = 64 << 20

// Store fetches and keeps artifacts.
type Store struct {
	// Folder holds the cache.
	Folder string
	// Offline asks nobody: only what is in the cache is known.
	Offline bool
	// Keychain has the credentials of registries; nil: those of the usual registry
	// configuration file.
	Keychain authn.Keychain
	// HTTP fetches archives; nil: a client with usual time limits.
	HTTP *http.Client
	// Transport asks registries; nil: the usual one.
	Transport http.RoundTripper
	// Unpack takes archives apart; nil: this process does so itself.
	Unpack func(ctx context.Context, r io.Reader, root *os.Root, l archive.Limits) error
}

func (s *Store) unpack(ctx context.Context, r io.Reader, root *os.Root) error {
	if s.Unpack != nil {
		return s.Unpack(ctx, r, root, archive.Usual)
	}
	return archive.Unpack(ctx, r, root, archive.Usual)
}

// Feature fetches a feature (definition.Artifacts).
func (s *Store) Feature(ctx context.Context, r definition.Reference, digest string) (definition.Artifact, error) {
	switch r.Kind {
	case definition.ReferenceOCI:
		return s.oci(ctx, r, digest)
	case definition.ReferenceArchive:
		return s.archive(ctx, r, digest)
	}
	return definition.Artifact{}, fmt.Errorf("%s is no artifact of a registry or an address", r.Written)
}

// Template fetches a template.
func (s *Store) Template(ctx context.Context, r definition.Reference) (fs.FS, error) {
	a, err := s.oci(ctx, r, "")
	return a.Files, err
}

func (s *Store) oci(ctx context.Context, r definition.Reference, digest string) (definition.Artifact, error) {
	if digest == "" {
		digest = r.Digest
	}
	if digest == "" {
		var err error
		if digest, err = s.resolve(ctx, r.Name, r.Tag); err != nil {
			return definition.Artifact{}, err
		}
	}
	if files, ok := s.content(digest); ok {
		return definition.Artifact{Files: files, Digest: digest}, nil
	}
	if s.Offline {
		return definition.Artifact{}, definition.ErrOffline
	}
	pinned, err := name.NewDigest(r.Name + "@" + digest)
	if err != nil {
		return definition.Artifact{}, fmt.Errorf("read reference %s: %w", r.Written, err)
	}
	layer, err := s.layer(ctx, pinned, LayerType)
	if err != nil {
		return definition.Artifact{}, err
	}
	defer layer.Close()
	files, err := s.keep(ctx, digest, layer)
	return definition.Artifact{Files: files, Digest: digest}, err
}

// layer opens the one layer of an artifact. Its content is checked while it is read.
func (s *Store) layer(ctx context.Context, ref name.Reference, mediaType string) (io.ReadCloser, error) {
	d, err := remote.Get(ref, s.options(ctx)...)
	if err != nil {
		return nil, explain(err, ref.String())
	}
	m, err := v1.ParseManifest(strings.NewReader(string(d.Manifest)))
	if err != nil {
		return nil, fmt.Errorf("read the manifest of %s: %w", ref, err)
	}
	for _, l := range m.Layers {
		if string(l.MediaType) != mediaType {
			continue
		}
		if l.Size > maxArtifact {
			return nil, fault.New("artifact-too-large", "", "%s has %d bytes; at most %d are fetched", ref, l.Size, maxArtifact)
		}
		layer, err := remote.Layer(ref.Context().Digest(l.Digest.String()), s.options(ctx)...)
		if err == nil {
			var r io.ReadCloser
			if r, err = layer.Compressed(); err == nil {
				return r, nil
			}
		}
		return nil, explain(err, ref.String())
	}
	return nil, fault.New("not-an-artifact", "correct the reference", "%s is in the registry, but is no feature or template: it has no layer of type %s", ref, mediaType)
}

// resolve asks what a tag stands for now; offline, what it stood for last.
func (s *Store) resolve(ctx context.Context, repository, tag string) (string, error) {
	file := s.path("names", repository+":"+tag)
	if s.Offline {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", definition.ErrOffline
		}
		return strings.TrimSpace(string(b)), nil
	}
	ref, err := name.NewTag(repository + ":" + tag)
	if err != nil {
		return "", fmt.Errorf("read reference %s:%s: %w", repository, tag, err)
	}
	d, err := remote.Head(ref, s.options(ctx)...)
	if err != nil {
		return "", explain(err, ref.String())
	}
	return d.Digest.String(), write(file, []byte(d.Digest.String()+"\n"))
}

// archive fetches a feature by https.
func (s *Store) archive(ctx context.Context, r definition.Reference, digest string) (definition.Artifact, error) {
	if digest != "" {
		if files, ok := s.content(digest); ok {
			return definition.Artifact{Files: files, Digest: digest}, nil
		}
	}
	file := s.path("names", r.Name)
	if s.Offline {
		if b, err := os.ReadFile(file); err == nil && digest == "" {
			known := strings.TrimSpace(string(b))
			if files, ok := s.content(known); ok {
				return definition.Artifact{Files: files, Digest: known}, nil
			}
		}
		return definition.Artifact{}, definition.ErrOffline
	}
	b, err := s.download(ctx, r.Name)
	if err != nil {
		return definition.Artifact{}, err
	}
	sum := sha256.Sum256(b)
	got := "sha256:" + hex.EncodeToString(sum[:])
	if digest != "" && got != digest {
		return definition.Artifact{}, &definition.Mismatch{Want: digest, Got: got}
	}
	files, err := s.keep(ctx, got, strings.NewReader(string(b)))
	if err == nil {
		err = write(file, []byte(got+"\n"))
	}
	return definition.Artifact{Files: files, Digest: got}, err
}

func (s *Store) download(ctx context.Context, address string) ([]byte, error) {
	client := s.HTTP
	if client == nil {
		client = &http.Client{Timeout: 2 * time.Minute}
	}
	secure := *client
	secure.CheckRedirect = func(q *http.Request, via []*http.Request) error {
		if q.URL.Scheme != "https" || len(via) > 5 {
			return errors.New("it leads on to an address without https, or too far")
		}
		return nil
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, fmt.Errorf("fetch %s: %w", address, err)
	}
	a, err := secure.Do(q)
	if err != nil {
		if fault.Code(err) == "address-not-asked" {
			return nil, err
		}
		return nil, fault.Transient(err, "address-down", "try again when it answers", "%s cannot be fetched", address)
	}
	defer a.Body.Close()
	switch {
	case a.StatusCode >= 500 || a.StatusCode == http.StatusTooManyRequests:
		return nil, fault.Transient(errors.New(a.Status), "address-down", "try again later", "%s cannot be fetched", address)
	case a.StatusCode != http.StatusOK:
		return nil, fault.New("not-found", "correct the address", "%s cannot be fetched: %s", address, a.Status)
	}
	b, err := io.ReadAll(io.LimitReader(a.Body, maxArtifact+1))
	if err != nil {
		return nil, fault.Transient(err, "address-down", "try again", "%s broke off", address)
	}
	if len(b) > maxArtifact {
		return nil, fault.New("artifact-too-large", "", "%s has more than %d bytes", address, maxArtifact)
	}
	return b, nil
}

// content opens what is kept of a digest.
func (s *Store) content(digest string) (fs.FS, bool) {
	folder := s.folder(digest)
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		return nil, false
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, false
	}
	return root.FS(), true // the root is closed when nothing refers to it any more
}

// keep unpacks content into the cache. Where another process was faster, its copy counts.
func (s *Store) keep(ctx context.Context, digest string, r io.Reader) (fs.FS, error) {
	parent := filepath.Join(s.Folder, "content")
	if err := os.MkdirAll(parent, 0o700); err != nil {
		return nil, fmt.Errorf("make the cache's folder: %w", err)
	}
	beside, err := os.MkdirTemp(parent, ".unpacking-")
	if err != nil {
		return nil, fmt.Errorf("make a folder in the cache: %w", err)
	}
	defer os.RemoveAll(beside)
	root, err := os.OpenRoot(beside)
	if err != nil {
		return nil, fmt.Errorf("open the cache: %w", err)
	}
	defer root.Close()
	if err := s.unpack(ctx, r, root); err != nil {
		if errors.Is(err, archive.ErrRefused) {
			return nil, fault.Wrap(err, "archive-refused", "do not use it", "what was fetched is not safe to unpack")
		}
		return nil, err
	}
	if _, err := io.Copy(io.Discard, r); err != nil { // the rest counts for the digest too
		return nil, fmt.Errorf("read to the end: %w", err)
	}
	if err := os.Rename(beside, s.folder(digest)); err != nil {
		if files, ok := s.content(digest); ok {
			return files, nil
		}
		return nil, fmt.Errorf("keep what was fetched: %w", err)
	}
	files, ok := s.content(digest)
	if !ok {
		return nil, fmt.Errorf("the cache lost %s", digest)
	}
	return files, nil
}

func (s *Store) folder(digest string) string {
	return filepath.Join(s.Folder, "content", strings.ReplaceAll(digest, ":", "-"))
}

// path is where a small thing is kept under a name of any characters.
func (s *Store) path(kind, name string) string {
	sum := sha256.Sum256([]byte(name))
	return filepath.Join(s.Folder, kind, hex.EncodeToString(sum[:16]))
}

// write writes a small file so that a reader sees the old or the new one.
func write(file string, b []byte) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return fmt.Errorf("make the cache's folder: %w", err)
	}
	t, err := os.CreateTemp(filepath.Dir(file), ".writing-")
	if err != nil {
		return fmt.Errorf("write to the cache: %w", err)
	}
	_, err = t.Write(b)
	if closeErr := t.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(t.Name(), file)
	}
	if err != nil {
		os.Remove(t.Name())
		return fmt.Errorf("write to the cache: %w", err)
	}
	return nil
}

// Versions lists the versions of an artifact in the registry, oldest first.
func (s *Store) Versions(ctx context.Context, repository string) ([]string, error) {
	if s.Offline {
		return nil, definition.ErrOffline
	}
	repo, err := name.NewRepository(repository)
	if err != nil {
		return nil, fmt.Errorf("read name %s: %w", repository, err)
	}
	tags, err := remote.List(repo, s.options(ctx)...)
	if err != nil {
		return nil, explain(err, repository)
	}
	return tags, nil
}

// Entry is one entry of a namespace's list.
type Entry struct {
	ID          string   `json:"id"`
	Version     string   `json:"version"`
	Name        string   `json:"name"`
	Description string   `json:"description"`
	Keywords    []string `json:"keywords,omitempty"`
}

// Collection reads the list of a namespace (the standard's collection).
func (s *Store) Collection(ctx context.Context, namespace string) (features, templates []Entry, err error) {
	file := s.path("collections", namespace)
	var b []byte
	if s.Offline {
		if b, err = os.ReadFile(file); err != nil {
			return nil, nil, definition.ErrOffline
		}
	} else if b, err = s.collection(ctx, namespace); err != nil {
		return nil, nil, err
	} else if err := write(file, b); err != nil {
		return nil, nil, err
	}
	var list struct{ Features, Templates []Entry }
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, nil, fmt.Errorf("read the list of %s: %w", namespace, err)
	}
	return list.Features, list.Templates, nil
}

func (s *Store) collection(ctx context.Context, namespace string) ([]byte, error) {
	ref, err := name.NewTag(namespace + ":latest")
	if err != nil {
		return nil, fault.Wrap(err, "bad-reference", "give registry/namespace", "%q is no namespace of a registry", namespace)
	}
	layer, err := s.layer(ctx, ref, CollectionLayerType)
	if err != nil {
		return nil, err
	}
	defer layer.Close()
	b, err := io.ReadAll(io.LimitReader(layer, maxArtifact))
	if err != nil {
		return nil, fmt.Errorf("read the list of %s: %w", namespace, err)
	}
	return b, nil
}
