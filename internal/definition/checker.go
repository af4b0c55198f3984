package definition

import (
	"path"
	"strconv"
	"strings"
)

// checker checks the values of one definition against the standard. A value with an
// error is left out of what is read, so that one slip gives one problem.
type checker struct {
	problems
	folder string          // the definition's folder inside the repository
	bad    map[string]bool // JSON pointers of values that are left out
}

func (c *checker) wrong(v *Value, path, code, format string, args ...any) *Problem {
	c.bad[path] = true
	return c.add(Error, code, v.Offset, path, format, args...)
}

func (c *checker) expect(v *Value, path string, kind Kind) bool {
	if v.Kind == kind {
		return true
	}
	c.wrong(v, path, "wrong-type", "%s must be %s, not %s", display(path), kind, v.Kind)
	return false
}

// display turns a JSON pointer into words.
func display(path string) string { return strings.TrimPrefix(path, "/") }

func (c *checker) text(v *Value, path string)    { c.expect(v, path, String) }
func (c *checker) boolean(v *Value, path string) { c.expect(v, path, Bool) }

func (c *checker) each(v *Value, path string, check func(*checker, *Value, string)) {
	if c.expect(v, path, Array) {
		for i, item := range v.Items {
			check(c, item, pointer(path, i))
		}
	}
}

func (c *checker) texts(v *Value, path string) { c.each(v, path, (*checker).text) }

func (c *checker) textOrTexts(v *Value, path string) {
	if v.Kind != String && v.Kind != Array {
		c.wrong(v, path, "wrong-type", "%s must be a string or a list of strings, not %s", display(path), v.Kind)
	} else if v.Kind == Array {
		c.texts(v, path)
	}
}

func oneOf(allowed ...string) func(*checker, *Value, string) {
	return func(c *checker, v *Value, path string) {
		if !c.expect(v, path, String) {
			return
		}
		for _, a := range allowed {
			if v.Str == a {
				return
			}
		}
		p := c.wrong(v, path, "not-allowed", "%s cannot be %q; it is one of %s", display(path), v.Str, strings.Join(allowed, ", "))
		p.Suggestion = Closest(v.Str, allowed)
	}
}

// members checks an object whose names are a closed list; an unknown one is a warning.
func (c *checker) members(v *Value, path string, known map[string]func(*checker, *Value, string)) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		at := pointer(path, m.Name)
		if check := known[m.Name]; check != nil {
			check(c, m.Value, at)
			continue
		}
		names := make([]string, 0, len(known))
		for name := range known {
			names = append(names, name)
		}
		c.unknown(m, at, names)
	}
}

// unknown tells of a member that is no property. What it says is so: the member is left out,
// whatever fields of the program have its name.
func (c *checker) unknown(m Member, path string, known []string) {
	c.bad[path] = true
	p := c.add(Warning, "unknown-property", m.NameOffset, path, "%s is not a property that the standard knows here; it has no effect", display(path))
	if p.Suggestion = Closest(m.Name, known); p.Suggestion != "" {
		p.Message += "; did you mean " + p.Suggestion + "?"
	}
}

func (c *checker) variables(v *Value, path string) {
	if c.expect(v, path, Object) {
		for _, m := range v.Members {
			c.text(m.Value, pointer(path, m.Name))
		}
	}
}

func (c *checker) nullableVariables(v *Value, path string) {
	if c.expect(v, path, Object) {
		for _, m := range v.Members {
			if m.Value.Kind != Null {
				c.text(m.Value, pointer(path, m.Name))
			}
		}
	}
}

// integer checks for a whole number in a range, both ends included.
func (c *checker) integer(v *Value, path string, from, to int) bool {
	if !c.expect(v, path, Number) {
		return false
	}
	n, err := strconv.Atoi(v.Raw)
	if err != nil {
		c.wrong(v, path, "wrong-type", "%s must be a whole number, not %s", display(path), v.Raw)
		return false
	}
	if n < from || n > to {
		c.wrong(v, path, "out-of-range", "%s is %d; it must lie between %d and %d", display(path), n, from, to)
		return false
	}
	return true
}

// repositoryPath checks a path relative to the definition that must stay in the repository.
func (c *checker) repositoryPath(v *Value, at string) {
	if !c.expect(v, at, String) {
		return
	}
	if strings.Contains(v.Str, "${") {
		return // judged once the variables are known
	}
	if path.IsAbs(v.Str) || !inside(path.Join(c.folder, v.Str)) {
		c.wrong(v, at, "outside-repository", "%s leads out of the repository: %q", display(at), v.Str)
	}
}

func inside(p string) bool { return p != ".." && !strings.HasPrefix(p, "../") }

func (c *checker) repositoryPaths(v *Value, at string) {
	if v.Kind == String {
		c.repositoryPath(v, at)
		return
	}
	if v.Kind != Array {
		c.wrong(v, at, "wrong-type", "%s must be a string or a list of strings, not %s", display(at), v.Kind)
		return
	}
	c.each(v, at, (*checker).repositoryPath)
}

func (c *checker) build(v *Value, path string) {
	c.members(v, path, map[string]func(*checker, *Value, string){
		"dockerfile": (*checker).repositoryPath,
		"context":    (*checker).repositoryPath,
		"target":     (*checker).text,
		"args":       (*checker).variables,
		"options":    (*checker).texts,
		"cacheFrom":  (*checker).textOrTexts,
	})
	if v.Kind == Object && v.Get("dockerfile") == nil && c.source.Root.Get("dockerFile") == nil {
		c.wrong(v, path, "missing-property", "build needs dockerfile, the path of the Dockerfile relative to this file")
	}
}

func (c *checker) features(v *Value, path string) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		at := pointer(path, m.Name)
		switch m.Value.Kind {
		case String, Bool:
		case Object:
			for _, option := range m.Value.Members {
				if k := option.Value.Kind; k != String && k != Bool {
					c.wrong(option.Value, pointer(at, option.Name), "wrong-type", "option %s of %s must be a string or true or false, not %s", option.Name, m.Name, k)
				}
			}
		default:
			c.wrong(m.Value, at, "wrong-type", "the value of feature %s must be an object of options or a version string, not %s", m.Name, m.Value.Kind)
		}
	}
}

func (c *checker) command(v *Value, path string) {
	switch v.Kind {
	case String:
	case Array:
		c.texts(v, path)
	case Object:
		for _, m := range v.Members {
			at := pointer(path, m.Name)
			if m.Value.Kind == Array {
				c.texts(m.Value, at)
			} else if m.Value.Kind != String {
				c.wrong(m.Value, at, "wrong-type", "%s must be a string or a list of strings, not %s", display(at), m.Value.Kind)
			}
		}
	default:
		c.wrong(v, path, "wrong-type", "%s must be a string, a list of strings or an object of these, not %s", display(path), v.Kind)
	}
}

func (c *checker) customizations(v *Value, path string) {
	if c.expect(v, path, Object) {
		for _, m := range v.Members {
			at := pointer(path, m.Name)
			if m.Name == "domicile" {
				c.domicile(m.Value, at)
			} else {
				c.expect(m.Value, at, Object)
			}
		}
	}
}

func (c *checker) secrets(v *Value, path string) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		c.members(m.Value, pointer(path, m.Name), map[string]func(*checker, *Value, string){
			"description": (*checker).text, "documentationUrl": (*checker).text,
		})
	}
}
