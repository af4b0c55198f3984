package compose

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"

	"domicile/internal/definition"
)

// text is one Compose file with the places of its parts.
type text struct {
	file  string
	bytes []byte     // as it is in the repository
	plain []byte     // as the loader gets it
	root  *yaml.Node // nil for other files
}

// staging collects the files that Compose files refer to by extends and include. The
// loader would read them from anywhere on the host; so each is looked at here first, and
// the loader is given what was looked at.
type staging struct {
	files    fs.FS
	seen     map[string]*text
	order    []*text
	refers   bool // to files beside those that were named
	problems []definition.Problem
}

func (s *staging) tell(file string, line int, code, format string, args ...any) {
	s.problems = append(s.problems, problem(file, line, code, format, args...))
}

func (s *staging) extra(name string, b []byte) {
	if s.seen[name] == nil {
		s.seen[name] = &text{file: name, bytes: b, plain: b}
	}
}

// add reads a file and those it refers to. by and line tell who refers to it.
func (s *staging) add(name, by string, line int) {
	name = path.Clean(name)
	if s.seen[name] != nil {
		return
	}
	if by == "" {
		by = name
	}
	if len(s.seen) == maxFiles {
		s.tell(by, line, "bad-compose", "more than %d files are referred to", maxFiles)
		return
	}
	b, err := readBounded(s.files, name)
	if err != nil {
		s.tell(by, line, "no-compose-file", "cannot read %s: %v", name, err)
		return
	}
	t := &text{file: name, bytes: b}
	s.seen[name] = t
	if t.root, err = canonical(b); err == nil {
		t.plain, err = write(t.root)
	}
	if err != nil {
		said := strings.TrimPrefix(yamlPlace.ReplaceAllString(strings.TrimPrefix(err.Error(), "yaml: "), ""), ": ")
		s.tell(name, lineOf(err.Error()), "bad-compose", "this is no valid YAML for a Compose file: %s", said)
		return
	}
	s.order = append(s.order, t)
	s.include(t)
	services := find(t.root, "services")
	if services == nil || services.Kind != yaml.MappingNode {
		return
	}
	for i := 1; i < len(services.Content); i += 2 {
		s.extends(t, child(services.Content[i], "extends"))
	}
}

// extends refers to the file of a service that another is made from: the name of a service
// of this file, or a mapping of service and file.
func (s *staging) extends(t *text, e *yaml.Node) {
	switch {
	case e == nil, e.Kind == yaml.ScalarNode:
	case e.Kind == yaml.MappingNode:
		for i := 0; i+1 < len(e.Content); i += 2 {
			switch key := e.Content[i]; key.Value {
			case "service":
			case "file":
				s.refer(t, e.Content[i+1])
			default:
				s.tell(t.file, key.Line, "not-carried-out", "%s of extends is not carried out", key.Value)
			}
		}
	default:
		s.tell(t.file, e.Line, "bad-compose", "extends is neither a service's name nor a mapping of service and file")
	}
}

// include follows the list of files that this one includes.
func (s *staging) include(t *text) {
	list := find(t.root, "include")
	if list == nil {
		return
	}
	if list.Kind != yaml.SequenceNode {
		s.tell(t.file, list.Line, "bad-compose", "include is no list of files")
		return
	}
	for _, entry := range list.Content {
		if entry.Kind == yaml.ScalarNode {
			s.included(t, entry)
			continue
		}
		if entry.Kind != yaml.MappingNode {
			s.tell(t.file, entry.Line, "bad-compose", "an entry of include is neither a file nor a mapping")
			continue
		}
		for i := 0; i+1 < len(entry.Content); i += 2 {
			key, value := entry.Content[i], entry.Content[i+1]
			switch {
			case key.Value != "path":
				s.tell(t.file, key.Line, "not-carried-out", "%s of an include is not carried out; put the variables into .env beside the first file", key.Value)
			case value.Kind == yaml.SequenceNode:
				for _, item := range value.Content {
					s.included(t, item)
				}
			default:
				s.included(t, value)
			}
		}
	}
}

// included refers to a file and to the .env beside it, which the loader looks for.
func (s *staging) included(t *text, n *yaml.Node) {
	s.refer(t, n)
	env := path.Join(path.Dir(path.Join(path.Dir(t.file), n.Value)), ".env")
	if fs.ValidPath(env) {
		if b, err := readBounded(s.files, env); err == nil {
			s.extra(env, b)
		}
	}
}

func (s *staging) refer(t *text, n *yaml.Node) {
	if n.Kind != yaml.ScalarNode || n.Value == "" {
		s.tell(t.file, n.Line, "bad-compose", "the name of another Compose file is no plain text")
		return
	}
	s.refers = true
	name := path.Join(path.Dir(t.file), n.Value)
	switch {
	case strings.Contains(n.Value, "$"):
		s.tell(t.file, n.Line, "bad-compose", "a variable in the name of another Compose file is not carried out: %s", n.Value)
	case strings.Contains(n.Value, "://") || strings.Contains(n.Value, "@"):
		s.tell(t.file, n.Line, "outside-repository", "only files of the repository are read, not %s", n.Value)
	case path.IsAbs(n.Value) || !fs.ValidPath(name):
		s.tell(t.file, n.Line, "outside-repository", "%s leads out of the repository", n.Value)
	default:
		s.add(name, t.file, n.Line)
	}
}

// line finds the line of the element with that path, 0 where there is none.
func (t *text) line(names ...string) int {
	n, line := t.root, 0
	for i, name := range names {
		if i == 0 {
			n = find(n, name)
			if n == nil {
				return 0
			}
			line = n.Line
			continue
		}
		key, value := pair(n, name)
		if key == nil {
			return 0
		}
		line, n = key.Line, value
	}
	return line
}

// takeOut removes an element by the names that lead to it.
func (t *text) takeOut(names []string) bool {
	n := find(t.root, names[0])
	for _, name := range names[1 : len(names)-1] {
		if n == nil {
			return false
		}
		_, n = pair(n, name)
	}
	if n == nil || n.Kind != yaml.MappingNode {
		return false
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == names[len(names)-1] {
			n.Content = slices.Delete(n.Content, i, i+2)
			return true
		}
	}
	return false
}

func find(document *yaml.Node, name string) *yaml.Node {
	if document == nil || len(document.Content) == 0 {
		return nil
	}
	return child(document.Content[0], name)
}

func child(n *yaml.Node, name string) *yaml.Node {
	_, value := pair(n, name)
	return value
}

func pair(n *yaml.Node, name string) (key, value *yaml.Node) {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil, nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i], n.Content[i+1]
		}
	}
	return nil, nil
}
