package scenario

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/go-containerregistry/pkg/authn"

	"domicile/demo"
	"domicile/internal/artifact"
)

// FeaturesAt and TemplatesAt are the namespaces of Skerry's features and templates.
func (w *World) FeaturesAt() string  { return w.RegistryAt + "/skerry/features" }
func (w *World) TemplatesAt() string { return w.RegistryAt + "/skerry/templates" }

// PublishFeatures puts Skerry's features into another namespace, with credentials.
func (w *World) PublishFeatures(ctx context.Context, namespace, user, password string) error {
	store := &artifact.Store{Folder: filepath.Join(w.o.Folder, "published"), Keychain: login{user, password}}
	return store.Publish(ctx, os.DirFS(filepath.Join(w.o.Folder, "publish", "feature")), namespace, "feature")
}

type login struct{ user, password string }

// Resolve gives the same credentials to every registry.
func (l login) Resolve(authn.Resource) (authn.Authenticator, error) {
	return authn.FromConfig(authn.AuthConfig{Username: l.user, Password: l.password}), nil
}

// publish puts Skerry's features and templates into the registry.
func (w *World) publish(ctx context.Context) error {
	store := &artifact.Store{Folder: filepath.Join(w.o.Folder, "published"), Keychain: authn.NewMultiKeychain()}
	for _, p := range []struct {
		files           func() (fs.FS, error)
		namespace, kind string
	}{{demo.Features, w.FeaturesAt(), "feature"}, {demo.Templates, w.TemplatesAt(), "template"}} {
		files, err := p.files()
		if err != nil {
			return err
		}
		folder := filepath.Join(w.o.Folder, "publish", p.kind)
		if err := layOut(files, folder, demo.Replace(w.RegistryAt)); err != nil {
			return fmt.Errorf("lay out the %ss: %w", p.kind, err)
		}
		if err := store.Publish(ctx, os.DirFS(folder), p.namespace, p.kind); err != nil {
			return err
		}
	}
	return nil
}

// layOut writes files with their text replaced.
func layOut(files fs.FS, folder string, replace func(string) string) error {
	if err := os.RemoveAll(folder); err != nil {
		return err
	}
	return fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(folder, name)
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		b, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		return os.WriteFile(to, []byte(replace(string(b))), 0o644)
	})
}
