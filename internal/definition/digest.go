package definition

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"
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

// InputDigest is the digest of what goes into a build: its Dockerfile and its context.
func (r *Report) InputDigest(b *Build) string {
	part := inputs{}
	for _, name := range []string{b.Dockerfile, contextName(b)} {
		part[name] = r.inputs[name]
	}
	for name := range b.Contexts {
		part[namedContext(b, name)] = cmp.Or(r.inputs[namedContext(b, name)], b.Contexts[name])
	}
	return part.digest()
}

func contextName(b *Build) string { return "context " + b.Context + " of " + b.Dockerfile }

func namedContext(b *Build, name string) string { return contextName(b) + " called " + name }

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
	var b bytes.Buffer
	writeCanonical(&b, v)
	return b.Bytes()
}

func writeCanonical(b *bytes.Buffer, v *Value) {
	if v.Kind == Array {
		b.WriteByte('[')
		for _, item := range v.Items {
			writeCanonical(b, item)
			b.WriteByte(',')
		}
		b.WriteByte(']')
		return
	}
	if v.Kind != Object {
		writeCompact(b, v)
		return
	}
	members := slices.Clone(v.Members)
	slices.SortStableFunc(members, func(x, y Member) int { return strings.Compare(x.Name, y.Name) })
	b.WriteByte('{')
	for i, m := range members {
		if i+1 < len(members) && members[i+1].Name == m.Name {
			continue // the last of a name counts
		}
		writeString(b, m.Name)
		b.WriteByte(':')
		if m.Name == "initializeCommand" || slices.Contains(Lifecycle, m.Name) {
			writeCompact(b, m.Value)
		} else {
			writeCanonical(b, m.Value)
		}
		b.WriteByte(',')
	}
	b.WriteByte('}')
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

// treeDigest is TreeDigest of a whole folder, made where its files are.
func treeDigest(files fs.FS) (string, error) {
	if h, is := files.(Hasher); is {
		return h.TreeDigest()
	}
	return TreeDigest(files, nil)
}

// ContextDigest is the digest of a build's context as its ignore file leaves it. The
// repository's own .git is left out: it changes without the files changing, and builds do
// not get it. The definition and its locks, which are counted by their content, are left
// out by their paths.
func ContextDigest(files fs.FS, context string, counted, patterns []string) (string, error) {
	if h, is := files.(Hasher); is {
		return h.ContextDigest(context, counted, patterns)
	}
	ignored, err := matcher(patterns)
	if err != nil {
		return "", err
	}
	sub, err := fs.Sub(files, context)
	if err != nil {
		return "", err
	}
	return TreeDigest(sub, func(name string, folder bool) bool {
		if path.Base(name) == ".git" || slices.Contains(counted, path.Join(context, name)) {
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
