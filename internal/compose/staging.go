package compose

import (
	"io/fs"
	"path"
	"strings"

	"go.yaml.in/yaml/v4"

	"domicile/internal/definition"
)

// text is one Compose file with the places of its parts.
type text struct {
	file  string
	bytes []byte
	root  *yaml.Node // nil for other files
}

// staging collects the files that Compose files refer to by extends and include. The
// loader would read them from anywhere on the host; so each is looked at here first.
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
		s.seen[name] = &text{file: name, bytes: b}
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
	t := &text{file: name, bytes: b, root: &yaml.Node{}}
	s.seen[name], s.order = t, append(s.order, t)
	if err := unmarshal(b, t.root); err != nil {
		s.tell(name, lineOf(err.Error()), "bad-compose", "this is no valid YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
		return
	}
	s.include(t)
	services := find(t.root, "services")
	if services == nil || services.Kind != yaml.MappingNode {
		return
	}
	for i := 1; i < len(services.Content); i += 2 {
		service := follow(services.Content[i])
		if e := child(service, "extends"); e != nil {
			s.refer(t, child(follow(e), "file"))
		}
	}
}

// include follows the list of files that this one includes.
func (s *staging) include(t *text) {
	list := find(t.root, "include")
	if list == nil {
		return
	}
	for _, entry := range list.Content {
		entry = follow(entry)
		if entry.Kind == yaml.ScalarNode {
			s.included(t, entry)
			continue
		}
		for _, name := range []string{"env_file", "project_directory"} {
			if n := child(entry, name); n != nil {
				s.tell(t.file, n.Line, "not-carried-out", "%s of an include is not carried out; put the variables into .env beside the first file", name)
			}
		}
		p := follow(child(entry, "path"))
		if p == nil {
			continue
		}
		if p.Kind == yaml.ScalarNode {
			s.included(t, p)
		}
		for _, item := range p.Content {
			s.included(t, follow(item))
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
	if n = follow(n); n == nil || n.Kind != yaml.ScalarNode || n.Value == "" {
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

// unmarshal keeps a panic of the YAML library from going further.
func unmarshal(b []byte, n *yaml.Node) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = errUnreadable
		}
	}()
	return yaml.Unmarshal(b, n)
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
		key, value := pair(follow(n), name)
		if key == nil {
			return 0
		}
		line, n = key.Line, value
	}
	return line
}

func find(document *yaml.Node, name string) *yaml.Node {
	if document == nil || len(document.Content) == 0 {
		return nil
	}
	return follow(child(document.Content[0], name))
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

// follow follows an alias to what it stands for.
func follow(n *yaml.Node) *yaml.Node {
	for i := 0; n != nil && n.Kind == yaml.AliasNode && i < 10; i++ {
		n = n.Alias
	}
	return n
}
