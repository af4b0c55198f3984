package artifact

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"

	"domicile/internal/definition"
	"domicile/internal/fault"
)

// metadataLabel is the standard's label of an image's metadata.
const metadataLabel = "devcontainer.metadata"

// Image looks an image up in its registry (definition.Images).
func (s *Store) Image(ctx context.Context, reference string) (out definition.ImageFacts, err error) {
	file := s.path("images", reference)
	if s.Offline {
		return s.knownImage(file)
	}
	ref, err := name.ParseReference(reference)
	if err != nil {
		return out, fault.Wrap(err, "bad-reference", "correct the image's name", "%q names no image", reference)
	}
	d, err := remote.Get(ref, append(s.options(ctx), remote.WithPlatform(v1.Platform{OS: "linux", Architecture: "amd64"}))...)
	if err != nil {
		return out, explain(err, reference)
	}
	out.Resolved = ref.Context().Name() + "@" + d.Digest.String()
	image, err := d.Image()
	if d.MediaType.IsIndex() {
		var first v1.Image
		if first, out.Architectures, err = all(d, err); first != nil {
			image = first
		}
	}
	if err != nil {
		return out, explain(err, reference)
	}
	config, err := image.ConfigFile()
	if err != nil {
		return out, explain(err, reference)
	}
	out.Metadata = []byte(config.Config.Labels[metadataLabel])
	if !d.MediaType.IsIndex() && config.Architecture != "" {
		out.Architectures = []string{config.Architecture}
	}
	b, err := json.Marshal(knownImage{out.Resolved, string(out.Metadata), out.Architectures})
	if err != nil {
		return out, fmt.Errorf("keep what is known of %s: %w", reference, err)
	}
	for _, key := range []string{reference, out.Resolved} {
		if err := write(s.path("images", key), b); err != nil {
			return out, err
		}
	}
	return out, nil
}

// all gives the processors that the images of an index are for, and the first of these where the
// one for the usual processors is not among them (wrong): what the metadata says is the same for
// all.
func all(d *remote.Descriptor, wrong error) (first v1.Image, architectures []string, err error) {
	index, err := d.ImageIndex()
	if err != nil {
		return nil, nil, err
	}
	list, err := index.IndexManifest()
	if err != nil {
		return nil, nil, err
	}
	for _, m := range list.Manifests {
		if !m.MediaType.IsImage() || m.Platform != nil && m.Platform.OS != "linux" {
			continue
		}
		if wrong != nil && first == nil {
			if first, err = index.Image(m.Digest); err != nil {
				return nil, nil, err
			}
		}
		if m.Platform != nil && m.Platform.Architecture != "" && !slices.Contains(architectures, m.Platform.Architecture) {
			architectures = append(architectures, m.Platform.Architecture)
		}
	}
	if wrong != nil && first == nil {
		return nil, nil, errors.New("it is for no processors on which Linux runs")
	}
	return first, architectures, nil
}

// knownImage is what is kept of an image.
type knownImage struct {
	Resolved, Metadata string
	Architectures      []string `json:",omitempty"`
}

func (s *Store) knownImage(file string) (out definition.ImageFacts, err error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return out, definition.ErrOffline
	}
	var k knownImage
	if err := json.Unmarshal(b, &k); err != nil {
		return out, fmt.Errorf("read the cache: %w", err)
	}
	return definition.ImageFacts{Resolved: k.Resolved, Metadata: []byte(k.Metadata), Architectures: k.Architectures}, nil
}

func (s *Store) options(ctx context.Context) []remote.Option {
	keys := s.Keychain
	if keys == nil {
		keys = authn.DefaultKeychain
	}
	transport := s.Transport
	if transport == nil {
		transport = remote.DefaultTransport
	}
	return []remote.Option{remote.WithTransport(transport), remote.WithContext(ctx), remote.WithAuthFromKeychain(keys), remote.WithUserAgent("domicile"),
		// Trying again is the run's, which tells it.
		remote.WithRetryBackoff(remote.Backoff{Steps: 1}), remote.WithRetryStatusCodes()}
}

// explain turns a registry's answer into what a person can act on.
func explain(err error, what string) error {
	var answer *transport.Error
	var network net.Error
	var unknown *net.DNSError
	switch {
	case errors.Is(err, context.Canceled), fault.Code(err) == "address-not-asked":
		return err
	case errors.As(err, &answer):
		switch code := answer.StatusCode; {
		case code == http.StatusUnauthorized || code == http.StatusForbidden:
			return fault.New("registry-needs-credentials", "domicile registries add HOST -user NAME gives them to the service; for check on this machine the usual registry configuration file counts",
				"the registry does not give out %s without credentials, or with those it got", what)
		case code == http.StatusNotFound:
			return fault.New("not-found", "correct the name or the version", "the registry does not have %s", what)
		case code >= 500 || code == http.StatusTooManyRequests:
			return fault.Transient(errors.New(http.StatusText(code)), "registry-down", "try again when the registry answers", "the registry of %s does not answer properly", what)
		}
		return fault.Wrap(err, "registry-refused", "", "the registry does not give out %s", what)
	case errors.As(err, &unknown):
		return fault.Transient(errors.New(unknown.Err), "registry-unknown", "correct the registry's name, or look whether this machine reaches it", "the registry of %s is not known by its name", what)
	case errors.As(err, &network) || errors.Is(err, context.DeadlineExceeded):
		var operation *net.OpError
		if errors.As(err, &operation) { // beneath the addresses that were tried
			err = operation.Err
		}
		return fault.Transient(err, "registry-down", "try again when the registry answers", "the registry of %s cannot be reached", what)
	}
	return fault.Wrap(err, "registry-failed", "", "cannot get %s", what)
}
