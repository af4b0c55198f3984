package definition

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// fillOptions judges the options a feature was given and fills in the defaults of the
// others (the standard's "Options property"). What the feature does not know is passed
// on all the same, as its script may still read it.
func (s *resolver) fillOptions(n *node) {
	n.options = map[string]any{}
	for name, value := range n.given {
		n.options[name] = value
	}
	if n.meta == nil || n.meta.hasErrors {
		return
	}
	for _, o := range n.meta.Options {
		value, given := n.given[o.Name]
		if !given {
			if o.Default != nil {
				n.options[o.Name] = o.Default
			}
			continue
		}
		place, at := s.optionPlace(n, o.Name, false)
		checked, reason, suggestion := o.check(value)
		n.options[o.Name] = checked
		if reason != "" {
			s.add(Error, "bad-option", place, at, "option %s of %s %s", o.Name, n.ref.Written, reason).Suggestion = suggestion
		}
	}
	for _, name := range slices.Sorted(maps.Keys(n.given)) {
		if slices.ContainsFunc(n.meta.Options, func(o featureOption) bool { return o.Name == name }) {
			continue
		}
		place, at := s.optionPlace(n, name, true)
		var known []string
		for _, o := range n.meta.Options {
			known = append(known, o.Name)
		}
		s.add(Warning, "unknown-option", place, at, "the feature %s has no option %s%s", n.ref.Written, name, hasOptions(known)).Suggestion = Closest(name, known)
	}
}

func hasOptions(known []string) string {
	if len(known) == 0 {
		return "; it has none at all"
	}
	return "; it has " + strings.Join(known, ", ")
}

// check returns the value as the script gets it, and what is wrong with it.
func (o featureOption) check(value any) (checked any, reason, suggestion string) {
	if o.Boolean {
		switch value {
		case true, false:
			return value, "", ""
		case "true":
			return true, "", ""
		case "false":
			return false, "", ""
		}
		return value, fmt.Sprintf("must be true or false, not %q", value), ""
	}
	word, isText := value.(string)
	if !isText {
		return value, fmt.Sprintf("must be a string, not %v", value), fmt.Sprintf("%q", fmt.Sprint(value))
	}
	if len(o.Enum) > 0 && !slices.Contains(o.Enum, word) {
		return value, fmt.Sprintf("cannot be %q; it is one of %s", word, strings.Join(o.Enum, ", ")), Closest(word, o.Enum)
	}
	return value, "", ""
}

// optionPlace finds where an option is written: in the definition, or, for a feature
// that another one depends on, at the name that led to it. byName wants the option's
// name, not its value.
func (s *resolver) optionPlace(n *node, option string, byName bool) (int, string) {
	if n.addedBy == nil {
		if v := s.checker.source.Root.Get("features").Get(n.ref.Written); v != nil {
			if m := v.Member(option); m != nil {
				if byName {
					return m.NameOffset, pointer(n.path, option)
				}
				return m.Value.Offset, pointer(n.path, option)
			}
			return v.Offset, n.path
		}
	}
	return n.place, n.path
}
