package engine

import (
	"context"
	"net"

	"github.com/moby/buildkit/client"

	"domicile/internal/fault"
)

// builder makes images of recipes. It has a way to a BuildKit, and an exporter, which says
// where the images go: an engine's own store, another engine, and what comes yet.
type builder struct {
	// dial opens the way to BuildKit.
	dial func(ctx context.Context) (*client.Client, error)
	// at is the engine that has the BuildKit, and the images that builds begin with.
	at *Site
	// machine is the architecture that images are for, as Go names it.
	machine string
	export  exporter
}

// exporter says what becomes of an image that was built.
type exporter interface {
	// entry tells it to BuildKit.
	entry(name string) client.ExportEntry
	// bring brings what BuildKit made to where it is wanted.
	bring(ctx context.Context, name string, progress func(string)) error
}

// builder gives the builder of the images that are wanted here: the engine's own, or that of
// another engine, whose images are brought here.
func (s *Site) builder() (*builder, error) {
	if !s.isPodman() {
		return &builder{dial: s.buildKit, at: s, machine: s.agentNow().architecture, export: ownStore{}}, nil
	}
	var other *Site
	if s.o.BuildAt != nil {
		other = s.o.BuildAt()
	}
	if other == nil || other.isPodman() {
		return nil, fault.New("site-cannot", "give the service an engine with BuildKit too (domicile serve -engine), or name an image in the definition that needs no build", "the container engine at %s builds no images", s.o.Name)
	}
	return &builder{dial: other.buildKit, at: other, machine: s.agentNow().architecture, export: otherStore{from: other, to: s}}, nil
}

// buildKit opens the way to the engine's own BuildKit.
func (s *Site) buildKit(ctx context.Context) (*client.Client, error) {
	c, err := client.New(ctx, "", client.WithContextDialer(func(ctx context.Context, _ string) (net.Conn, error) {
		return s.api.DialHijack(ctx, "/grpc", "h2c", nil)
	}), client.WithSessionDialer(func(ctx context.Context, proto string, meta map[string][]string) (net.Conn, error) {
		return s.api.DialHijack(ctx, "/session", proto, meta)
	}))
	return c, s.explain(err, "reach the engine's image builder")
}

// ownStore leaves an image in the engine that built it.
type ownStore struct{}

func (ownStore) entry(name string) client.ExportEntry {
	return client.ExportEntry{Type: "moby", Attrs: map[string]string{"name": name}}
}

func (ownStore) bring(context.Context, string, func(string)) error { return nil }

// otherStore brings an image from the engine that built it to another one.
type otherStore struct {
	ownStore
	from, to *Site
}

func (x otherStore) bring(ctx context.Context, name string, progress func(string)) error {
	return x.to.bringImage(ctx, x.from, name, progress)
}
