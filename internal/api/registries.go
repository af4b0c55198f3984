package api

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"github.com/google/go-containerregistry/pkg/authn"

	"domicile/internal/credential"
	"domicile/internal/fault"
	"domicile/internal/records"
)

// Registries gives the credentials that the service was given to those who fetch. It is
// the standard authn.Keychain.
type Registries struct {
	Store *records.Store
	Seal  *credential.Seal
}

func sealedFor(host string) string { return "registry " + host }

// Resolve finds the credentials of a registry.
func (r *Registries) Resolve(resource authn.Resource) (authn.Authenticator, error) {
	return r.ResolveContext(context.Background(), resource)
}

// ResolveContext finds the credentials of a registry.
func (r *Registries) ResolveContext(ctx context.Context, resource authn.Resource) (authn.Authenticator, error) {
	list, err := r.Store.Registries(ctx)
	if err != nil {
		return nil, fmt.Errorf("look for the registry's credentials: %w", err)
	}
	for _, known := range list {
		if known.Host != resource.RegistryStr() {
			continue
		}
		password, err := r.Seal.Open(sealedFor(known.Host), known.Password)
		if err != nil {
			return nil, fmt.Errorf("read the credentials of %s: %w", known.Host, err)
		}
		return authn.FromConfig(authn.AuthConfig{Username: known.Username, Password: password}), nil
	}
	return authn.Anonymous, nil
}

var registryHost = regexp.MustCompile(`^[a-z0-9.-]+(:[0-9]{1,5})?$`)

// ListRegistries lists the registries that the service has credentials of.
func (s *Server) ListRegistries(ctx context.Context, _ ListRegistriesRequestObject) (ListRegistriesResponseObject, error) {
	list, err := s.o.Store.Registries(ctx)
	if err != nil {
		return nil, err
	}
	views := make([]Registry, 0, len(list))
	for _, r := range list {
		views = append(views, Registry{Host: r.Host, Username: r.Username, Created: r.Created})
	}
	return ListRegistries200JSONResponse(views), nil
}

// SetRegistry keeps the credentials of a registry.
func (s *Server) SetRegistry(ctx context.Context, q SetRegistryRequestObject) (SetRegistryResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	host := strings.ToLower(q.Host)
	if !registryHost.MatchString(host) {
		return nil, fault.New("bad-name", "give it as in a reference, such as registry.example.com or 127.0.0.1:5000", "%q is no registry", q.Host)
	}
	if q.Body.Username == "" || q.Body.Password == "" {
		return nil, fault.New("bad-request", "give both", "A registry's credentials are a name and a password or token")
	}
	err := s.o.Store.SetRegistry(ctx, records.Registry{Host: host, Username: q.Body.Username, Password: s.o.Registries.Seal.Close(sealedFor(host), q.Body.Password)}, account(ctx).ID)
	return SetRegistry204Response{}, err
}

// RemoveRegistry forgets the credentials of a registry.
func (s *Server) RemoveRegistry(ctx context.Context, q RemoveRegistryRequestObject) (RemoveRegistryResponseObject, error) {
	if err := administrator(ctx); err != nil {
		return nil, err
	}
	found, err := s.o.Store.RemoveRegistry(ctx, q.Host)
	if err == nil && !found {
		err = fault.New("no-registry", "domicile registries lists them", "The service has no credentials of %s", q.Host)
	}
	return RemoveRegistry204Response{}, err
}
