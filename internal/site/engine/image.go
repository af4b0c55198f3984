package engine

import (
	"context"
	"fmt"
	"strings"

	types "github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/registry"
	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/site"
)

// EnsureImage inspects the image and pulls it where it is not there.
func (s *Site) EnsureImage(ctx context.Context, image judge.Image, progress func(string)) (site.Image, error) {
	return s.ensureImage(ctx, image, s.registryAuth, progress)
}

// EnsurePublic is EnsureImage for what anybody may pull: no credentials are shown to the registry.
func (s *Site) EnsurePublic(ctx context.Context, image judge.Image, progress func(string)) (site.Image, error) {
	return s.ensureImage(ctx, image, func(context.Context, string) (string, error) { return "", nil }, progress)
}

func (s *Site) ensureImage(ctx context.Context, image judge.Image, credentials func(ctx context.Context, reference string) (string, error), progress func(string)) (site.Image, error) {
	reference := image.Name()
	found, err := s.inspectImage(ctx, s.local(reference))
	if err == nil || !isNotFound(err) {
		return found, s.explain(err, "look for the image "+reference)
	}
	if image.Made() || reference == "" {
		return found, fault.Wrap(err, "image-gone", "rebuild the workspace, or make it anew", "the image that was made for the workspace is gone from the site")
	}
	if s.o.MayAsk != nil {
		if err := s.o.MayAsk(ctx, image.Registry()); err != nil {
			return found, err
		}
	}
	auth, err := credentials(ctx, reference)
	if err != nil {
		return site.Image{}, err
	}
	stream, err := s.api.ImagePull(ctx, reference, types.PullOptions{RegistryAuth: auth})
	if err != nil {
		return site.Image{}, s.pullFault(err, reference)
	}
	defer stream.Close()
	if err := followPull(stream, progressEvery, progress); err != nil {
		return site.Image{}, s.pullFault(err, reference)
	}
	found, err = s.inspectImage(ctx, reference)
	found.Fetched = true
	return found, s.explain(err, "look at the image "+reference)
}

// registryAuth gives the credentials of an image's registry as the engine wants them.
func (s *Site) registryAuth(ctx context.Context, reference string) (string, error) {
	if s.o.Keychain == nil {
		return "", nil
	}
	ref, err := name.ParseReference(reference)
	if err != nil {
		return "", nil // the engine says what is wrong with it
	}
	found, err := authn.Resolve(ctx, s.o.Keychain, ref.Context())
	if err != nil {
		return "", fmt.Errorf("look for the credentials of %s: %w", ref.Context().RegistryStr(), err)
	}
	config, err := authn.Authorization(ctx, found)
	if err != nil || *config == (authn.AuthConfig{}) {
		return "", err
	}
	return registry.EncodeAuthConfig(registry.AuthConfig{Username: config.Username, Password: config.Password, Auth: config.Auth, IdentityToken: config.IdentityToken,
		RegistryToken: config.RegistryToken, ServerAddress: ref.Context().RegistryStr()})
}

// HasImage tells whether the engine has the image.
func (s *Site) HasImage(ctx context.Context, image judge.Image) (bool, error) {
	reference := image.Name()
	_, err := s.inspectImage(ctx, s.local(reference))
	if isNotFound(err) {
		return false, nil
	}
	return err == nil, s.explain(err, "look for the image "+reference)
}

func (s *Site) inspectImage(ctx context.Context, reference string) (site.Image, error) {
	i, err := s.api.ImageInspect(ctx, reference)
	if err != nil {
		return site.Image{}, err
	}
	found := site.Image{ID: i.ID}
	if i.Config != nil {
		found.User, found.Metadata = i.Config.User, i.Config.Labels["devcontainer.metadata"]
	}
	return found, nil
}

// tagsOf gives an image's names. Some engines tell that one without a registry is of their own.
func tagsOf(i types.Summary) (tags []string) {
	for _, t := range i.RepoTags {
		tags = append(tags, strings.TrimPrefix(t, "localhost/"))
	}
	return tags
}

// pullFault tells a registry that is down from an image that is not there.
func (s *Site) pullFault(err error, reference string) error {
	registry := registryOf(reference)
	text := err.Error()
	switch {
	case containsAny(text, "manifest unknown", "not found", "name unknown", "repository does not exist", "unknown manifest"):
		return fault.Wrap(err, "image-not-found", "correct image in the definition, or push the image to the registry",
			"the registry %s has no image %s", registry, reference)
	case containsAny(text, "denied", "unauthorized", "authentication required"):
		return fault.Wrap(err, "image-denied", "give the service credentials for this registry, or correct image in the definition",
			"the registry %s does not give out %s", registry, reference)
	case containsAny(text, "no such host", "server misbehaving"):
		return fault.Transient(err, "registry-unknown", "correct the registry's name in the definition's image", "the name of the registry %s is not known", registry)
	case containsAny(text, "connection refused", "timeout", "EOF", "connection reset", "i/o", "status 5", "500 ", "502 ", "503 ", "504 ", "Service Unavailable", "Internal Server Error"):
		return fault.Transient(err, "registry-down", "start the registry, or wait until it answers again", "the registry %s does not answer properly", registry)
	case containsAny(text, "invalid reference format"):
		return fault.Wrap(err, "bad-image", "write image as registry/name:tag", "%q is no image reference", reference)
	}
	return s.explain(err, "pull the image "+reference)
}

func registryOf(reference string) string {
	first, _, found := strings.Cut(reference, "/")
	if found && (strings.ContainsAny(first, ".:") || first == "localhost") {
		return first
	}
	return "docker.io"
}

func containsAny(s string, parts ...string) bool {
	for _, p := range parts {
		if strings.Contains(s, p) {
			return true
		}
	}
	return false
}
