package definition

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"domicile/internal/fault"
)

// maxFeatures bounds how many features a definition may lead to. Local features that
// depend on each other are never equal, so a small hostile graph could grow without end.
const maxFeatures = 200

// Artifact is a feature as it was fetched.
type Artifact struct {
	Files fs.FS
	// Digest names the content: of the manifest in a registry, of an archive's bytes, or
	// of a folder's files.
	Digest string
}

// Artifacts fetches features that are not in the repository. When what is asked for
// cannot be had without the network, and that may not be used, the error is ErrOffline.
type Artifacts interface {
	// Feature fetches what the reference names; digest, unless empty, is what a lock file
	// says its digest must be.
	Feature(ctx context.Context, r Reference, digest string) (Artifact, error)
}

// ErrOffline tells that something is not known without asking a registry.
var ErrOffline = errors.New("not at hand, and no registry is asked")

// A Mismatch is an artifact whose content is not what a lock file pins.
type Mismatch struct{ Want, Got string }

func (m *Mismatch) Error() string { return fmt.Sprintf("its digest is %s, not %s", m.Got, m.Want) }

// resolver reads the features of a definition and all they depend on.
type resolver struct {
	*checker
	ctx    context.Context
	files  fs.FS
	from   Artifacts
	locks  *Locks
	nodes  []*node
	report *Report
	looked map[string]*featureMetadata // by file, so that problems are told once
	others []Problem                   // of features' own files
}

// resolveFeatures returns the features in installation order.
func (r *Report) resolveFeatures(ctx context.Context, c *checker, files fs.FS, root *Value, vars *Variables, o Options) []*node {
	v := root.Get("features")
	if v == nil {
		return nil
	}
	s := &resolver{checker: c, ctx: ctx, files: files, from: o.Artifacts, locks: r.Locks, report: r, looked: map[string]*featureMetadata{}}
	defer func() { r.Problems = append(r.Problems, s.others...) }()
	var level []*node
	for _, m := range v.Members {
		at := pointer("/features", m.Name)
		if n := s.node(m.Name, m.Value.Map(vars.Replace), m.NameOffset, at, nil); n != nil {
			level = append(level, n)
		}
	}
	for len(level) > 0 {
		level = s.expand(level)
	}
	s.softEdges()
	s.priorities(root)
	ordered, stuck := order(s.nodes)
	if len(stuck) > 0 {
		s.tellCycle(cycle(stuck))
	}
	return ordered
}

// node makes a node of what is written; nil where the reference is wrong, which is told.
func (s *resolver) node(written string, value *Value, place int, at string, by *node) *node {
	ref, err := ParseReference(written)
	if err != nil {
		whose := ""
		if by != nil {
			whose = fmt.Sprintf(" (%s depends on it)", by.ref.Written)
		}
		if by != nil && by.ref.Kind == ReferenceLocal && by.meta != nil && by.meta.DependsOn != nil {
			if m := by.meta.DependsOn.Member(written); m != nil { // its own file is at hand to be mended
				t := by.meta.text
				spot := t.Position(m.NameOffset)
				s.others = append(s.others, Problem{Severity: Error, Code: "bad-reference", File: t.File, Line: spot.Line, Column: spot.Column, Path: pointer("/dependsOn", written), Excerpt: excerpt(t.Line(spot.Line)),
					Message: fmt.Sprintf("%q is no feature reference: %v", written, err)})
				return nil
			}
		}
		s.add(Error, "bad-reference", place, at, "%q is no feature reference%s: %v", written, whose, err)
		return nil
	}
	n := &node{ref: ref, given: map[string]any{}, addedBy: by, place: place, path: at}
	switch {
	case value.Kind == String:
		n.given["version"] = value.Str
	case value.Kind == Object:
		for _, m := range value.Members {
			n.given[m.Name] = m.Value.Any()
		}
	}
	return n
}

// expand fetches the nodes of a level side by side, keeps those that are new, and
// returns what they depend on.
func (s *resolver) expand(level []*node) (next []*node) {
	var all sync.WaitGroup
	errs := make([]error, len(level))
	for i, n := range level {
		if n.ref.Kind == ReferenceLocal {
			errs[i] = s.local(n)
			continue
		}
		all.Go(func() { errs[i] = s.fetch(n) })
	}
	all.Wait()
	for i, n := range level {
		if errs[i] != nil {
			s.tellMissing(n, errs[i])
		} else {
			s.look(n)
		}
		s.fillOptions(n)
		if j := slices.IndexFunc(s.nodes, n.equal); j >= 0 {
			if n.addedBy != nil {
				n.addedBy.needs = append(n.addedBy.needs, s.nodes[j])
			}
			continue
		}
		if len(s.nodes) == maxFeatures {
			s.add(Error, "too-many-features", n.place, n.path, "this leads to more than %d features", maxFeatures)
			return nil
		}
		s.nodes = append(s.nodes, n)
		if n.addedBy != nil {
			n.addedBy.needs = append(n.addedBy.needs, n)
		}
		next = append(next, s.dependencies(n)...)
	}
	return next
}

func (s *resolver) dependencies(n *node) (list []*node) {
	if n.meta == nil || n.meta.DependsOn == nil {
		return nil
	}
	for _, m := range n.meta.DependsOn.Members {
		d := s.node(m.Name, m.Value, n.place, n.path, n)
		if d == nil {
			continue
		}
		// A local feature is never equal to another, so its circle would never close.
		if way := ancestor(n, d); way != nil {
			s.tellCycle(way)
			continue
		}
		list = append(list, d)
	}
	return list
}

// ancestor gives the way from an ancestor of n that is the same local folder as d, or nil.
func ancestor(n, d *node) (way []*node) {
	if d.ref.Kind != ReferenceLocal {
		return nil
	}
	for a := n; a != nil; a = a.addedBy {
		way = append([]*node{a}, way...)
		if a.ref.Kind == ReferenceLocal && a.ref.Name == d.ref.Name {
			return way
		}
	}
	return nil
}

func (s *resolver) tellCycle(way []*node) {
	names := make([]string, 0, len(way)+1)
	for _, n := range way {
		names = append(names, n.ref.Written)
	}
	names = append(names, way[0].ref.Written)
	s.add(Error, "feature-cycle", way[0].place, way[0].path, "these features wait for each other, so that none can be installed first: %s", strings.Join(names, " → "))
}

// local finds a feature in the repository. It must lie below the folder .devcontainer.
func (s *resolver) local(n *node) error {
	folder := path.Join(s.folder, n.ref.Name)
	if !inside(folder) || folder != ".devcontainer" && !strings.HasPrefix(folder, ".devcontainer/") {
		return fmt.Errorf("a feature of the repository must lie in a folder below .devcontainer, not at %s", folder)
	}
	if info, err := fs.Stat(s.files, folder); err != nil || !info.IsDir() {
		return fmt.Errorf("there is no folder %s", folder)
	}
	var err error
	if n.artifact.Files, err = fs.Sub(s.files, folder); err != nil {
		return err
	}
	n.artifact.Digest, err = treeDigest(n.artifact.Files)
	return err
}

func (s *resolver) fetch(n *node) (err error) {
	if s.from == nil {
		return ErrOffline
	}
	want := ""
	if s.locks != nil {
		if l, ok := s.locks.Features[n.ref.Written]; ok {
			n.locked, want = &l, l.Digest()
		}
	}
	n.artifact, err = s.from.Feature(s.ctx, n.ref, want)
	return err
}

func (s *resolver) tellMissing(n *node, err error) {
	if n.locked != nil && n.artifact.Digest == "" {
		n.artifact.Digest = n.locked.Digest()
	}
	var mismatch *Mismatch
	switch {
	case errors.Is(err, ErrOffline):
		s.add(Warning, "feature-not-at-hand", n.place, n.path, "%s is not at hand and no registry was asked: what it brings is missing in this answer", n.ref.Written).
			Suggestion = "check again without -offline"
	case errors.As(err, &mismatch):
		s.add(Error, "lock-mismatch", n.place, n.path, "%s is not what the lock file pins: %v", n.ref.Written, mismatch).
			Suggestion = "find out who changed it; check -update moves the pin"
	default:
		s.report.fetchFailed(err)
		s.add(Error, "feature-not-found", n.place, n.path, "cannot get the feature %s: %v", n.ref.Written, err).Suggestion = fault.Remedy(err)
	}
}

// look reads the metadata of a node's files.
func (s *resolver) look(n *node) {
	file := n.ref.Written + "/" + featureFile
	if n.ref.Kind == ReferenceLocal {
		file = path.Join(s.folder, n.ref.Name, featureFile)
	}
	meta, known := s.looked[file]
	if !known {
		var list []Problem
		meta, list = readFeature(n.artifact.Files, file)
		list = append(list, questionsInScript(path.Join(path.Dir(file), installScript), meta.script)...)
		if n.ref.Kind != ReferenceLocal { // nobody here can mend it: one place leads there, the name in the definition
			for i := range list {
				list[i].Message = fmt.Sprintf("%s (%s:%d)", list[i].Message, list[i].File, list[i].Line)
				at := s.checker.source.Position(n.place)
				list[i].File, list[i].Line, list[i].Column, list[i].Path = s.checker.source.File, at.Line, at.Column, n.path
			}
		}
		s.others = append(s.others, list...)
		s.looked[file] = meta
	}
	n.meta = meta
	if known {
		return
	}
	if meta.Deprecated {
		s.add(Warning, "deprecated-feature", n.place, n.path, "the feature %s is deprecated by its authors", n.ref.Written).Suggestion = meta.DocumentationURL
	}
	if meta.ID != "" && meta.ID != n.ref.ID {
		if slices.Contains(meta.LegacyIDs, n.ref.ID) {
			s.add(Note, "legacy-id", n.place, n.path, "the feature %s is now called %s", n.ref.ID, meta.ID).Suggestion = n.ref.namespace() + meta.ID
		} else if n.ref.Kind == ReferenceLocal {
			at := meta.text.Position(meta.text.Root.Get("id").Offset)
			s.others = append(s.others, Problem{Severity: Warning, Code: "wrong-id", File: file, Line: at.Line, Column: at.Column, Path: "/id", Excerpt: excerpt(meta.text.Line(at.Line)),
				Message: fmt.Sprintf("the id %q should be the name of the feature's folder, %q", meta.ID, n.ref.ID), Suggestion: n.ref.ID})
		}
	}
}

// softEdges makes installsAfter wait for what is there.
func (s *resolver) softEdges() {
	for _, n := range s.nodes {
		if n.meta == nil {
			continue
		}
		for _, name := range n.meta.InstallsAfter {
			for _, m := range s.nodes {
				if m != n && m.is(name) && !slices.Contains(n.needs, m) {
					n.needs = append(n.needs, m)
				}
			}
		}
	}
}

// priorities gives the features of overrideFeatureInstallOrder theirs.
func (s *resolver) priorities(root *Value) {
	v := root.Get("overrideFeatureInstallOrder")
	if v == nil {
		return
	}
	for i, item := range v.Items {
		at, found := pointer("/overrideFeatureInstallOrder", i), false
		if plain := withoutVersion(item.Str); plain != item.Str && !strings.HasPrefix(item.Str, ".") {
			s.add(Warning, "version-ignored", item.Offset, at, "features are named without version here").Suggestion = plain
		}
		for _, n := range s.nodes {
			if n.is(item.Str) {
				found = true
				n.priority = max(n.priority, len(v.Items)-i)
			}
		}
		if !found {
			var names []string
			for _, n := range s.nodes {
				names = append(names, n.ref.Name)
			}
			s.add(Warning, "unknown-feature", item.Offset, at, "no feature %s is installed, so its place in the order has no effect", item.Str).Suggestion = Closest(item.Str, names)
		}
	}
}
