package definition

import (
	"bytes"
	"encoding/json"
	"slices"
)

// fromDefault is the origin of what the standard says where all sources are silent.
const fromDefault = "default"

// FindOrigins tells of each value of the effective configuration where it came from. Objects
// whose members are merged one by one, and lists, are told member by member.
func (r *Report) FindOrigins() map[string]string {
	if r.Origins != nil {
		return r.Origins
	}
	if r.Effective == nil || len(r.snippets) == 0 {
		return nil
	}
	sources := make([]*Value, len(r.snippets))
	for i, s := range r.snippets {
		sources[i] = valueOf(s.Effective)
	}
	out := map[string]string{}
	final := valueOf(r.Effective)
	if final == nil {
		return nil
	}
	for _, m := range final.Members {
		at := pointer("", m.Name)
		switch {
		case m.Name == "initializeCommand" || slices.Contains(Lifecycle, m.Name): // each says so itself
		case m.Name == "workspaceFolder":
			out[at] = r.written(m.Name)
		case m.Value.Kind == Array:
			for i, item := range m.Value.Items {
				out[pointer(at, i)] = r.origin(sources, func(s *Value) bool {
					list := s.Get(m.Name)
					return list != nil && slices.ContainsFunc(list.Items, item.same)
				}, false)
			}
		case m.Value.Kind == Object && m.Name != "build" && m.Name != "workspaceMount":
			for _, member := range m.Value.Members {
				out[pointer(at, member.Name)] = r.origin(sources, func(s *Value) bool {
					v := s.Get(m.Name).Get(member.Name)
					return v != nil && (m.Name == "customizations" || member.Value.same(v))
				}, true)
			}
		default:
			// true if any is: the first that says so; else the last that says anything
			out[at] = r.origin(sources, func(s *Value) bool { v := s.Get(m.Name); return v != nil && m.Value.same(v) }, m.Name != "init" && m.Name != "privileged")
		}
	}
	return out
}

func (r *Report) written(name string) string {
	if r.Text != nil && r.Text.Root.Get(name) != nil {
		return fromDefinition
	}
	return fromDefault
}

func (r *Report) origin(sources []*Value, has func(*Value) bool, last bool) string {
	found := fromDefault
	for i, s := range sources {
		if s != nil && has(s) {
			found = r.snippets[i].from
			if !last {
				break
			}
		}
	}
	return found
}

func (v *Value) same(other *Value) bool { return bytes.Equal(compact(v), compact(other)) }

func valueOf(x any) *Value {
	b, err := json.Marshal(x)
	if err != nil {
		return nil
	}
	t, err := ParseText("", b)
	if err != nil {
		return nil
	}
	return t.Root
}
