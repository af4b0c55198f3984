package definition

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
)

// inputs collects all that was read for a definition. Its digest decides what must be
// built again: it is equal when and only when the inputs are, wherever the repository
// lies, whatever the times of its files, and whatever the order of names where the order
// has no meaning.
type inputs map[string]string // name → digest of the content

func (r *Report) read(name string, content []byte) {
	if r.inputs == nil {
		r.inputs = inputs{}
	}
	sum := sha256.Sum256(content)
	r.inputs[name] = hex.EncodeToString(sum[:])
}

func (r *Report) readDigest(name, digest string) {
	if r.inputs == nil {
		r.inputs = inputs{}
	}
	r.inputs[name] = digest
}

func (in inputs) digest() string {
	names := make([]string, 0, len(in))
	for name := range in {
		names = append(names, name)
	}
	sort.Strings(names)
	h := sha256.New()
	for _, name := range names {
		fmt.Fprintf(h, "%d %s %s\n", len(name), name, in[name])
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil))
}

// canonical gives a value as JSON with the names of objects sorted, but for lifecycle
// commands, whose order decides in which order their output is labelled.
func (v *Value) canonical() []byte {
	b, err := json.Marshal(v.ordered())
	if err != nil {
		return compact(v)
	}
	return b
}

func (v *Value) ordered() any {
	object, ok := v.Any().(map[string]any)
	if !ok {
		return v.Any()
	}
	for _, name := range append([]string{"initializeCommand"}, Lifecycle...) {
		if command := v.Get(name); command != nil {
			object[name] = compact(command)
		}
	}
	return object
}

// TreeDigest is the digest of a folder's files: their paths, whether they may be run,
// and their content; of links, where they lead. skip leaves files and whole folders out;
// nil leaves out nothing.
func TreeDigest(files fs.FS, skip func(name string, folder bool) bool) (string, error) {
	h := sha256.New()
	// WalkDir goes through each folder in the order of names, so the digest is the same
	// everywhere.
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name == "." {
			return nil
		}
		if skip != nil && skip(name, d.IsDir()) {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		return hashEntry(h, files, name, d)
	})
	if err != nil {
		return "", fmt.Errorf("read the folder: %w", err)
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil)), nil
}

func hashEntry(h io.Writer, files fs.FS, name string, d fs.DirEntry) error {
	switch {
	case d.IsDir():
		fmt.Fprintf(h, "d %d %s\n", len(name), name)
	case d.Type()&fs.ModeSymlink != 0:
		target, err := fs.ReadLink(files, name)
		if err != nil {
			return err
		}
		fmt.Fprintf(h, "l %d %s %d %s\n", len(name), name, len(target), target)
	case d.Type().IsRegular():
		info, err := d.Info()
		if err != nil {
			return err
		}
		f, err := files.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		content := sha256.New()
		if _, err := io.Copy(content, f); err != nil {
			return err
		}
		fmt.Fprintf(h, "f %d %s %t %x\n", len(name), name, info.Mode()&0o111 != 0, content.Sum(nil))
	}
	return nil
}

// contextDigest is the digest of a build's context as its ignore file leaves it. The
// repository's own .git is left out: it changes without the files changing.
func contextDigest(files fs.FS, context string, ignored func(name string) (match, mayHold bool)) (string, error) {
	sub, err := fs.Sub(files, context)
	if err != nil {
		return "", err
	}
	return TreeDigest(sub, func(name string, folder bool) bool {
		if path.Base(name) == ".git" {
			return true
		}
		match, mayHold := ignored(name)
		return match && !(folder && mayHold)
	})
}

// environmentRead notes the variables of the local environment that a definition used.
func (r *Report) environmentRead(lookup func(string) (string, bool)) func(string) (string, bool) {
	if lookup == nil {
		return nil
	}
	return func(name string) (string, bool) {
		value, known := lookup(name)
		r.read("environment "+name, []byte(fmt.Sprintf("%t %s", known, value)))
		return value, known
	}
}

// sortedNames gives the names of a map in order.
func sortedNames[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
