// Package compare puts two workspaces side by side and tells only what differs, the most likely
// culprit first, with why it may be one. It is pure: what is known of two workspaces in,
// differences out.
package compare

import (
	"cmp"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Kind is what sort of thing differs.
type Kind string

// The kinds, as they are told.
const (
	Check       Kind = "check"       // what one proves and the other does not: what the rest may explain
	Definition  Kind = "definition"  // a property of the definition, by the standard's name
	Source      Kind = "source"      // the commit or the repository
	Image       Kind = "image"       // what was pulled or built
	Variable    Kind = "variable"    // of the environment
	Tool        Kind = "tool"        // what a program on the path says of its version
	Pip         Kind = "pip"         // packages of Python
	Npm         Kind = "npm"         // global packages of Node.js
	Gem         Kind = "gem"         // packages of Ruby
	Package     Kind = "package"     // of the system
	System      Kind = "system"      // distribution, kernel, architecture
	Limit       Kind = "limit"       // size and what a process may have
	Site        Kind = "site"        // the site
	sameMachine      = "the machine" // the name under which an architecture is told
)

// Workspace is what is known of one of the two.
type Workspace struct {
	Name string
	// Facts are what the records tell, by kind and name: Definition, Source, Image, Limit, Site.
	Facts map[Kind]map[string]string
	// Checks are the results of its checks.
	Checks []Result
	// Inside is what was found inside; nil: it could not be looked at, and Unseen says why.
	Inside Inside
	Unseen string
}

// Result is what a check found.
type Result struct {
	Name            string
	OK              bool
	Expected, Found string
	From            string // the step that should have brought it; empty: not known
}

// Difference is one thing that differs. An empty A or B is something that this one has not.
type Difference struct {
	Kind Kind
	Name string
	A, B string
	Why  string // why it may be the culprit, as half a sentence
}

// Report is what differs, and what was compared and does not.
type Report struct {
	Differences []Difference
	Same        []Kind // compared on both sides, and equal
}

// rank is the order of the kinds, where nothing else is known: what others follow from comes
// before them, and what people change by hand before what nobody touches.
var rank = map[Kind]int{Check: 0, Source: 2, Definition: 3, Image: 4, Variable: 5, Tool: 6, Pip: 7, Npm: 7, Gem: 7, Package: 8, System: 9, Limit: 10, Site: 11}

// Sides compares two workspaces.
func Sides(a, b Workspace) Report {
	var r Report
	checks(&r, a.Checks, b.Checks)
	kinds := slices.SortedFunc(maps.Keys(rank), func(x, y Kind) int { return cmp.Or(cmp.Compare(rank[x], rank[y]), cmp.Compare(x, y)) })
	for _, kind := range kinds {
		ofA, ofB := a.of(kind), b.of(kind)
		if kind == Check || ofA == nil || ofB == nil {
			continue
		}
		before := len(r.Differences)
		names := maps.Clone(ofA)
		maps.Copy(names, ofB)
		for _, name := range slices.Sorted(maps.Keys(names)) {
			if ofA[name] != ofB[name] {
				r.Differences = append(r.Differences, Difference{Kind: kind, Name: name, A: ofA[name], B: ofB[name]})
			}
		}
		if len(r.Differences) == before {
			r.Same = append(r.Same, kind)
		}
	}
	s := suspicion{symptoms: symptoms(a.Checks, b.Checks), oneImage: !r.has(Image) && !r.has(Definition)}
	points := make(map[Difference]int, len(r.Differences))
	for i := range r.Differences {
		d := &r.Differences[i]
		var order int
		order, d.Why = s.of(*d)
		points[*d] = order
	}
	slices.SortStableFunc(r.Differences, func(x, y Difference) int { return cmp.Compare(points[x], points[y]) })
	return r
}

func (r *Report) has(kind Kind) bool {
	return slices.ContainsFunc(r.Differences, func(d Difference) bool { return d.Kind == kind })
}

// of are the facts of one kind; nil where they are not known.
func (w Workspace) of(kind Kind) map[string]string {
	if facts, known := w.Facts[kind]; known {
		if kind == Limit && w.Inside != nil {
			facts = maps.Clone(facts)
			maps.Copy(facts, w.Inside[kind])
		}
		return facts
	}
	return w.Inside[kind]
}

// checks adds those that hold on one side alone, and those that only one side has.
func checks(r *Report, a, b []Result) {
	before, both := len(r.Differences), 0
	for _, x := range a {
		i := slices.IndexFunc(b, func(y Result) bool { return y.Name == x.Name })
		if i < 0 {
			continue
		}
		if both++; b[i].OK != x.OK {
			r.Differences = append(r.Differences, Difference{Kind: Check, Name: x.Name, A: says(x), B: says(b[i])})
		}
	}
	if both > 0 && len(r.Differences) == before {
		r.Same = append(r.Same, Check)
	}
}

func says(r Result) string {
	if r.OK {
		return "holds: " + r.Found
	}
	return "does not hold: " + r.Found
}

// symptoms are all words of the checks that hold on one side alone: what they name is looked at
// first.
func symptoms(a, b []Result) string {
	var text []string
	for _, x := range a {
		if i := slices.IndexFunc(b, func(y Result) bool { return y.Name == x.Name }); i >= 0 && b[i].OK != x.OK {
			for _, r := range []Result{x, b[i]} {
				text = append(text, r.Name, r.Expected, r.Found, r.From)
			}
		}
	}
	return strings.ToLower(strings.Join(text, "\n"))
}

// suspicion orders differences by how likely each is the culprit.
type suspicion struct {
	symptoms string // the words of the checks that hold on one side alone
	oneImage bool   // both were made from the same: what differs came afterwards
}

// of gives the place of a difference in the order, the smaller the earlier, and why it has it.
func (s suspicion) of(d Difference) (order int, why string) {
	order, why = rank[d.Kind]*10, s.reason(d)
	switch {
	case d.Kind != Check && s.named(d.Name):
		return 5, "the check that holds on one side alone names it; " + why
	case s.oneImage && installed(d.Kind) && (d.A == "" || d.B == ""):
		return 12, why
	case d.Kind == System && d.Name == sameMachine:
		return 25, why
	case d.Kind == Source && d.Name == "commit":
		return 35, why
	}
	return order, why
}

func installed(k Kind) bool { return k == Pip || k == Npm || k == Gem || k == Package }

func (s suspicion) reason(d Difference) string {
	oneSide := d.A == "" || d.B == ""
	switch {
	case d.Kind == Check:
		return "this is what shows that they are not alike"
	case d.Kind == Definition:
		return "they were made from definitions that differ here"
	case d.Kind == Source && d.Name == "commit":
		return "the source is of another moment; what it brings may differ, too"
	case d.Kind == Source:
		return "they hold different sources"
	case d.Kind == Image && s.oneNameTwoImages(d):
		return "the same name gave two images at two moments: a digest in the definition keeps it"
	case d.Kind == Image:
		return "what is in the image differs, and with it all that comes from there"
	case d.Kind == Variable && d.Name == "PATH":
		return "another program may answer to the same name"
	case d.Kind == Variable:
		return "programs decide by it"
	case d.Kind == Tool:
		return "another version does its work"
	case installed(d.Kind) && oneSide && s.oneImage:
		return "both are made from the same, so somebody installed or removed it by hand: domicile drift tells the line to add"
	case installed(d.Kind) && s.oneImage:
		return "both are made from the same, so it came at another moment: a fixed version keeps it"
	case installed(d.Kind):
		return "it comes with what differs above"
	case d.Kind == System && d.Name == sameMachine:
		return "programs are built for another processor"
	case d.Kind == System:
		return "the system beneath differs"
	case d.Kind == Limit:
		return "what needs more than that is ended or waits"
	default:
		return "the host beneath differs"
	}
}

// oneNameTwoImages recognises a digest that differs behind one name.
func (s suspicion) oneNameTwoImages(d Difference) bool {
	a, _, atA := strings.Cut(d.A, "@")
	b, _, atB := strings.Cut(d.B, "@")
	return atA && atB && a == b
}

var word = regexp.MustCompile(`[a-z0-9][a-z0-9+._-]*`)

// named tells whether the checks' words contain a name, as a word.
func (s suspicion) named(name string) bool {
	name = strings.ToLower(name)
	if len(name) < 2 || !strings.Contains(s.symptoms, name) {
		return false
	}
	return slices.ContainsFunc(word.FindAllString(s.symptoms, -1), func(w string) bool { return strings.TrimRight(w, ".-_") == name })
}
