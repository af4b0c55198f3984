package definition

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// ComposeReader reads Compose files. It is given from outside, so that this package
// stays free of what reading them takes.
type ComposeReader interface {
	// Read merges the files, given as paths inside the repository. What is wrong stands in
	// the problems. environment is asked for ${NAME}.
	Read(ctx context.Context, files fs.FS, paths []string, environment func(string) (string, bool)) (*ComposeFacts, []Problem)
}

// ComposeFacts is what a definition needs to know of its Compose files.
type ComposeFacts struct {
	Services []ComposeService  // by name
	Files    map[string][]byte // all that was read, by path inside the repository
}

// ComposeService is one service.
type ComposeService struct {
	Name      string   `json:"name"`
	Image     string   `json:"image,omitempty"`
	Build     *Build   `json:"build,omitempty"` // paths relative to the repository
	DependsOn []string `json:"dependsOn,omitempty"`
	Ports     []string `json:"ports,omitempty"` // inside the container
	Volumes   []string `json:"volumes,omitempty"`
	// Asks are the things it wants of the host, in words.
	Asks []string `json:"asks,omitempty"`
	User string   `json:"user,omitempty"`
	File string   `json:"-"`
	Line int      `json:"-"`
}

// readCompose reads the Compose files, and returns the base image and user of the
// workspace's own service.
func (r *Report) readCompose(ctx context.Context, c *checker, files fs.FS, e *Effective, o Options) (base, user string) {
	root := c.source.Root
	at := root.Member("dockerComposeFile")
	if at == nil || len(e.DockerComposeFile) == 0 {
		return "", ""
	}
	place := func(i int) (int, string) {
		if at.Value.Kind == Array && i < len(at.Value.Items) {
			return at.Value.Items[i].Offset, pointer("/dockerComposeFile", i)
		}
		return at.Value.Offset, "/dockerComposeFile"
	}
	missing := false
	for i, file := range e.DockerComposeFile {
		text, err := fs.ReadFile(files, file)
		if err != nil {
			offset, where := place(i)
			c.add(Error, "no-compose-file", offset, where, "cannot read the Compose file %s: %v", file, reason(err))
			missing = true
			continue
		}
		r.read(file, text)
	}
	if missing || o.Compose == nil {
		return "", ""
	}
	facts, list := o.Compose.Read(ctx, files, e.DockerComposeFile, o.Environment)
	r.Problems = append(r.Problems, list...)
	if facts == nil {
		return "", ""
	}
	for _, file := range sortedNames(facts.Files) {
		r.read(file, facts.Files[file])
	}
	r.Services = facts.Services
	var names []string
	for _, s := range facts.Services {
		names = append(names, s.Name)
		b, u := r.readService(c, files, s, e.Service)
		if s.Name == e.Service {
			base, user = b, u
		}
	}
	c.services(root, names)
	return base, user
}

func (r *Report) readService(c *checker, files fs.FS, s ComposeService, own string) (base, user string) {
	if s.Image != "" && s.Build == nil {
		r.addImage(Image{Reference: s.Image, File: s.File, Line: s.Line})
		return s.Image, s.User
	}
	if s.Build == nil {
		return "", s.User
	}
	m := c.source.Root.Member("dockerComposeFile")
	before, told := len(c.list), len(r.Problems)
	d := r.readBuild(c, files, s.Build, m.Value.Offset, "/dockerComposeFile")
	for i := told; i < len(r.Problems) && s.Build.Inline != ""; i++ { // its lines are the Compose file's
		if p := &r.Problems[i]; p.File == s.Build.Dockerfile {
			p.File, p.Line, p.Message = s.File, p.Line+s.Build.InlineLine, fmt.Sprintf("service %s: %s", s.Name, p.Message)
		}
	}
	for i := before; i < len(c.list); i++ { // the place to mend is the service
		c.list[i].File, c.list[i].Line, c.list[i].Column, c.list[i].Path, c.list[i].Excerpt = s.File, max(s.Line, 1), 1, "", ""
		c.list[i].Message = fmt.Sprintf("service %s: %s", s.Name, c.list[i].Message)
	}
	if d == nil {
		return "", s.User
	}
	if s.User == "" {
		s.User = d.user
	}
	if s.Name == own {
		r.ownLabel = d.label
	}
	return d.base, s.User
}

// services checks that the services which the definition names are there.
func (c *checker) services(root *Value, names []string) {
	look := func(v *Value, at string) {
		if v != nil && v.Kind == String && !slices.Contains(names, v.Str) {
			p := c.wrong(v, at, "unknown-service", "the Compose files have no service %q; they have %s", v.Str, strings.Join(names, ", "))
			p.Suggestion = Closest(v.Str, names)
		}
	}
	look(root.Get("service"), "/service")
	if v := root.Get("runServices"); v != nil {
		for i, item := range v.Items {
			look(item, pointer("/runServices", i))
		}
	}
}
