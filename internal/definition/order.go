package definition

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
)

// node is one feature with its options in the graph of what is to be installed.
type node struct {
	ref     Reference
	given   map[string]any // options as written
	addedBy *node          // nil: the person named it
	place   int            // offset of the person's name that led here
	path    string         // JSON pointer of that name

	meta     *featureMetadata // nil: not known (offline, or not found)
	artifact Artifact
	options  map[string]any // all, defaults filled in
	needs    []*node        // dependsOn, and installsAfter of what is there
	priority int
	locked   *LockedFeature
}

// names are all names by which installsAfter and overrideFeatureInstallOrder may mean it.
func (n *node) names() []string {
	list := []string{n.ref.Name}
	if n.meta == nil {
		return list
	}
	prefix := ""
	if n.ref.Kind == ReferenceOCI {
		prefix = n.ref.namespace()
	}
	for _, id := range append([]string{n.meta.ID}, n.meta.LegacyIDs...) {
		if id != "" {
			list = append(list, prefix+id)
		}
	}
	return list
}

func (n *node) is(name string) bool { return slices.Contains(n.names(), withoutVersion(name)) }

// equal tells whether two nodes are one (the standard's "Feature equality"): the same
// content with the same options; features of local folders never are.
func (n *node) equal(m *node) bool {
	if n.ref.Kind == ReferenceLocal || n.ref.Kind != m.ref.Kind {
		return false
	}
	same := n.artifact.Digest != "" && n.artifact.Digest == m.artifact.Digest
	if n.artifact.Digest == "" && m.artifact.Digest == "" {
		same = n.ref.Name == m.ref.Name && n.ref.Tag == m.ref.Tag && n.ref.Digest == m.ref.Digest
	}
	return same && maps.Equal(n.options, m.options)
}

// compare orders the nodes of one round.
func (n *node) compare(m *node) int {
	if c := strings.Compare(n.ref.Name, m.ref.Name); c != 0 {
		return c
	}
	if c := CompareVersions(n.ref.Tag, m.ref.Tag); c != 0 {
		return c
	}
	if c := strings.Compare(n.ref.Digest, m.ref.Digest); c != 0 {
		return c
	}
	if c := cmp.Compare(len(m.given), len(n.given)); c != 0 {
		return c // the greatest number of options first
	}
	a, b := slices.Sorted(maps.Keys(n.given)), slices.Sorted(maps.Keys(m.given))
	if c := slices.Compare(a, b); c != 0 {
		return c
	}
	for _, name := range a {
		if c := strings.Compare(fmt.Sprint(n.given[name]), fmt.Sprint(m.given[name])); c != 0 {
			return c
		}
	}
	switch {
	case n.addedBy == nil && m.addedBy != nil:
		return -1
	case n.addedBy != nil && m.addedBy == nil:
		return 1
	}
	return 0
}

// order puts the nodes into installation order (the standard's "Round-based sorting").
// What cannot be ordered, because its members wait for each other, comes back as stuck.
func order(nodes []*node) (ordered, stuck []*node) {
	installed := make(map[*node]bool, len(nodes))
	rest := slices.Clone(nodes)
	for len(rest) > 0 {
		var round []*node
		highest := 0
		for _, n := range rest {
			if !slices.ContainsFunc(n.needs, func(m *node) bool { return !installed[m] }) {
				round = append(round, n)
				highest = max(highest, n.priority)
			}
		}
		if len(round) == 0 {
			return ordered, rest
		}
		round = slices.DeleteFunc(round, func(n *node) bool { return n.priority < highest })
		sort.SliceStable(round, func(i, j int) bool { return round[i].compare(round[j]) < 0 })
		for _, n := range round {
			installed[n] = true
		}
		ordered = append(ordered, round...)
		rest = slices.DeleteFunc(rest, func(n *node) bool { return installed[n] })
	}
	return ordered, nil
}

// cycle picks out of nodes that wait for each other one circle, in its order.
func cycle(stuck []*node) []*node {
	if len(stuck) == 0 {
		return nil
	}
	in := map[*node]bool{}
	for _, n := range stuck {
		in[n] = true
	}
	var way []*node
	for n := stuck[0]; ; {
		if i := slices.Index(way, n); i >= 0 {
			return way[i:]
		}
		way = append(way, n)
		i := slices.IndexFunc(n.needs, func(m *node) bool { return in[m] })
		if i < 0 {
			return way
		}
		n = n.needs[i]
	}
}

// feature gives a node as the report shows it.
func (n *node) feature() Feature {
	f := Feature{Reference: n.ref.Written, ID: n.ref.ID, Options: n.options, Env: map[string]string{}, Digest: n.artifact.Digest, files: n.artifact.Files}
	if n.ref.Kind == ReferenceOCI && isVersion(n.ref.Tag) {
		f.Version = n.ref.Tag
	}
	if n.locked != nil {
		f.Version = n.locked.Version
	}
	if n.meta != nil {
		f.ID, f.Version, f.Name, f.DocumentationURL = n.meta.ID, n.meta.Version, n.meta.Name, n.meta.DocumentationURL
		f.ContainerEnv = n.meta.containerEnv()
		if n.meta.DependsOn != nil {
			for _, m := range n.meta.DependsOn.Members {
				f.DependsOn = append(f.DependsOn, m.Name)
			}
		}
	}
	if n.addedBy != nil {
		f.AddedBy = n.addedBy.ref.Written
	}
	for name, value := range n.options {
		f.Env[environmentName(name)] = fmt.Sprint(value)
	}
	if f.Options == nil {
		f.Options = map[string]any{}
	}
	return f
}

// metadata is the feature's entry in an image's label: its reference and what is merged.
func (n *node) metadata() json.RawMessage {
	v := &Value{Kind: Object, Members: []Member{{Name: "id", Value: &Value{Kind: String, Str: n.ref.Written}}}}
	if n.meta != nil && n.meta.snippet != nil {
		v.Members = append(v.Members, n.meta.snippet.Members...)
	}
	return compact(v)
}
