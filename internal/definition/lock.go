package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"strings"
)

// Locks are the pins that stand beside a definition: the standard's lock file for
// features, and Domicile's own for images.
type Locks struct {
	Features map[string]LockedFeature // by reference as written
	Images   map[string]LockedImage   // by reference as written
}

// LockedFeature is one entry of the standard's lock file.
type LockedFeature struct {
	Version   string   `json:"version"`
	Resolved  string   `json:"resolved"`  // registry/ns/id@sha256:…, or an archive's address
	Integrity string   `json:"integrity"` // sha256:…
	DependsOn []string `json:"dependsOn,omitempty"`
}

// Digest is the digest that the content must have.
func (l LockedFeature) Digest() string {
	if _, digest, found := strings.Cut(l.Resolved, "@"); found {
		return digest
	}
	return l.Integrity
}

// LockedImage is one entry of domicile-lock.json.
type LockedImage struct {
	Resolved string `json:"resolved"` // name@sha256:…
}

// LockPaths tells where the lock files of a definition are: beside it.
func LockPaths(file string) (features, images string) {
	folder, dot := path.Dir(file), ""
	if strings.HasPrefix(path.Base(file), ".") {
		dot = "."
	}
	return path.Join(folder, dot+"devcontainer-lock.json"), path.Join(folder, dot+"domicile-lock.json")
}

// readLocks reads both lock files. Their problems go into the report.
func (r *Report) readLocks(files fs.FS) {
	features, images := LockPaths(r.File)
	r.Locks = &Locks{}
	readLock(r, files, features, "features", func(c *checker, name string, v *Value, at string) {
		c.members(v, at, map[string]func(*checker, *Value, string){
			"version": (*checker).text, "resolved": (*checker).text, "integrity": (*checker).digestText, "dependsOn": (*checker).texts,
		})
		var l LockedFeature
		if json.Unmarshal(compact(without(v, at, c.bad)), &l) == nil && !c.bad[at] {
			if digest := l.Digest(); !sha256Text.MatchString(digest) {
				c.add(Error, "bad-lock", v.Offset, at, "the entry pins no digest: resolved must end in @sha256:… or integrity be sha256:…").Suggestion = "domicile check -lock"
				return
			}
			if _, resolved, pins := strings.Cut(l.Resolved, "@"); pins && l.Integrity != "" && l.Integrity != resolved {
				c.add(Error, "bad-lock", v.Get("integrity").Offset, pointer(at, "integrity"), "integrity and resolved pin two different contents: %.19s and %.19s", l.Integrity, resolved).Suggestion = "domicile check -lock"
				return
			}
			if r.Locks.Features == nil {
				r.Locks.Features = map[string]LockedFeature{}
			}
			r.Locks.Features[name] = l
		}
	})
	readLock(r, files, images, "images", func(c *checker, name string, v *Value, at string) {
		c.members(v, at, map[string]func(*checker, *Value, string){"resolved": (*checker).text})
		if v.Kind != Object {
			return
		}
		resolved := v.Get("resolved")
		if resolved == nil || !pinned(resolved.Str) {
			c.add(Error, "bad-lock", v.Offset, at, "the entry pins no digest: resolved must end in @sha256:… and 64 hexadecimal digits").Suggestion = "domicile check -lock"
			return
		}
		if r.Locks.Images == nil {
			r.Locks.Images = map[string]LockedImage{}
		}
		r.Locks.Images[name] = LockedImage{Resolved: resolved.Str}
	})
}

func (c *checker) digestText(v *Value, at string) {
	if c.expect(v, at, String) && !sha256Text.MatchString(v.Str) {
		c.wrong(v, at, "bad-lock", "%q is no digest: sha256: and 64 hexadecimal digits are wanted", v.Str)
	}
}

func readLock(r *Report, files fs.FS, file, list string, entry func(c *checker, name string, v *Value, at string)) {
	b, err := fs.ReadFile(files, file)
	if err != nil {
		return // most definitions have none
	}
	t, err := ParseText(file, b)
	if err != nil {
		r.Problems = append(r.Problems, syntaxProblem(t, err))
		return
	}
	r.read(file, t.Root.canonical())
	c := &checker{problems: problems{source: t}, bad: map[string]bool{}}
	defer func() { r.Problems = append(r.Problems, c.list...) }()
	if !c.expect(t.Root, "", Object) {
		return
	}
	entries := t.Root.Get(list)
	if entries == nil {
		c.add(Error, "bad-lock", t.Root.Offset, "", "a lock file holds an object %s", list).Suggestion = "domicile check -lock"
		return
	}
	at := pointer("", list)
	if c.expect(entries, at, Object) {
		for _, m := range entries.Members {
			entry(c, m.Name, m.Value, pointer(at, m.Name))
		}
	}
}

// LockFiles writes the lock files that pin all that was read now; a nil text means that
// there is nothing to pin. Names are sorted, so that equal pins give equal files.
func (r *Report) LockFiles() (features, images []byte, err error) {
	f, i := map[string]LockedFeature{}, map[string]LockedImage{}
	for _, x := range r.Features {
		ref, parseErr := ParseReference(x.Reference)
		if parseErr != nil || ref.Kind == ReferenceLocal {
			continue
		}
		if x.Digest == "" {
			return nil, nil, fmt.Errorf("the feature %s was not looked up, so it cannot be pinned", x.Reference)
		}
		l := LockedFeature{Version: x.Version, Resolved: ref.Name + "@" + x.Digest, Integrity: x.Digest, DependsOn: x.DependsOn}
		if ref.Kind == ReferenceArchive {
			l.Resolved = ref.Name
		}
		f[x.Reference] = l
	}
	for _, x := range r.Images {
		if pinned(x.Reference) {
			continue
		}
		if x.Resolved == "" {
			return nil, nil, fmt.Errorf("the image %s was not looked up, so it cannot be pinned", x.Reference)
		}
		i[x.Reference] = LockedImage{Resolved: x.Resolved}
	}
	if len(f) > 0 {
		if features, err = indented(map[string]any{"features": f}); err != nil {
			return nil, nil, err
		}
	}
	if len(i) > 0 {
		images, err = indented(map[string]any{"images": i})
	}
	return features, images, err
}

func indented(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return nil, fmt.Errorf("write the lock file: %w", err)
	}
	return b.Bytes(), nil
}

// pinned tells whether an image's reference names a digest.
func pinned(reference string) bool {
	_, digest, found := strings.Cut(reference, "@")
	return found && sha256Text.MatchString(digest)
}
