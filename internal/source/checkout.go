package source

import (
	"os"
	"path/filepath"
)

// Forget removes the checkout of a key.
func (f *Fetcher) Forget(key string) error { return os.RemoveAll(f.path(key)) }

// Own is the folder of a key's own checkout: its last part is the repository's name, whatever
// the key is.
func (f *Fetcher) Own(key, name string) string {
	if name == "." || !filepath.IsLocal(name) || filepath.Base(name) != name {
		name = "source"
	}
	return filepath.Join(f.path(key), name)
}

func (f *Fetcher) path(key string) string { return filepath.Join(f.Folder, "checkouts", key) }
