package engine

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"

	"github.com/moby/buildkit/frontend/dockerui"
	"github.com/moby/patternmatcher/ignorefile"
	"github.com/tonistiigi/fsutil"

	"domicile/internal/definition"
)

// mountContext opens the build's context as its ignore file leaves it.
func (w *oneBuild) mountContext() error {
	d := w.Recipe.Dockerfile
	if d == nil {
		return nil
	}
	root, err := os.OpenRoot(w.Source)
	if err != nil {
		return fmt.Errorf("open the source: %w", err)
	}
	defer root.Close()
	var patterns []string
	for _, name := range []string{d.Path + ".dockerignore", filepath.Join(d.Context, ".dockerignore")} {
		f, err := root.Open(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("read %s: %w", name, err)
		}
		more, err := ignorefile.ReadAll(f)
		f.Close()
		if err != nil {
			return fmt.Errorf("read %s: %w", name, err)
		}
		patterns = append(patterns, more...)
		break
	}
	// The folder may be one that a workspace writes to meanwhile: it stays open while it is
	// sent, and nothing in it is followed out of it.
	sub, err := root.OpenRoot(d.Context)
	if err != nil {
		return fmt.Errorf("open the build's context: %w", err)
	}
	w.open = append(w.open, sub)
	// Last, so that no pattern of the repository takes it in again.
	patterns = append(patterns, ".git", "**/.git")
	left, err := fsutil.NewFilterFS(rootFS{sub}, &fsutil.FilterOpt{ExcludePatterns: patterns})
	if err != nil {
		return fmt.Errorf("read the ignore file: %w", err)
	}
	w.mounts[dockerui.DefaultLocalNameContext] = left
	return w.mountContexts(root)
}

// mountContexts opens the folders beside the context that the Dockerfile names, and takes
// the images that it names so as if they were pinned.
func (w *oneBuild) mountContexts(root *os.Root) error {
	pins := map[string]string{}
	maps.Copy(pins, w.Recipe.Pins)
	for name, of := range w.Recipe.Dockerfile.Contexts {
		if image, is := definition.ImageContext(of); is {
			pins[name] = cmp.Or(w.Recipe.Pins[image], image)
			continue
		}
		sub, err := root.OpenRoot(of)
		if err != nil {
			return fmt.Errorf("open the build's context %s: %w", name, err)
		}
		w.open = append(w.open, sub)
		mount := fmt.Sprintf("context-%d", len(w.named))
		if w.named == nil {
			w.named = map[string]string{}
		}
		w.named["context:"+name] = "local:" + mount
		if w.mounts[mount], err = fsutil.NewFilterFS(rootFS{sub}, &fsutil.FilterOpt{ExcludePatterns: []string{".git", "**/.git"}}); err != nil {
			return fmt.Errorf("open the build's context %s: %w", name, err)
		}
	}
	w.Recipe.Pins = pins
	return nil
}
