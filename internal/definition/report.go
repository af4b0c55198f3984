package definition

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"strings"
)

// Report is what reading a definition found: the answer of `domicile check -json`.
type Report struct {
	File      string     `json:"file,omitempty"`
	Kind      string     `json:"kind,omitempty"`
	Effective *Effective `json:"effective,omitempty"`
	Features  []Feature  `json:"features"`
	Problems  []Problem  `json:"problems"`
	Floating  []Floating `json:"floating"`
	Digest    string     `json:"digest,omitempty"`

	Text *Text `json:"-"` // nil where there was no file
	// LocalFolder is where the repository lies: Options.Folder.
	LocalFolder string `json:"-"`
}

// Feature is one feature in installation order.
type Feature struct {
	Reference string            `json:"reference"`
	ID        string            `json:"id"`
	Version   string            `json:"version,omitempty"`
	Options   map[string]any    `json:"options"`
	Env       map[string]string `json:"env"`
	AddedBy   string            `json:"addedBy,omitempty"`
}

// Floating is something that may change from one day to the next.
type Floating struct {
	Kind      string `json:"kind"` // image
	Reference string `json:"reference"`
	Why       string `json:"why"`
}

// HasErrors tells whether anything keeps a workspace from being made.
func (r *Report) HasErrors() bool {
	for _, p := range r.Problems {
		if p.Severity == Error {
			return true
		}
	}
	return false
}

// MarshalJSON writes empty lists as [], never as null.
func (r *Report) MarshalJSON() ([]byte, error) {
	type plain Report
	c := plain(*r)
	if c.Features == nil {
		c.Features = []Feature{}
	}
	if c.Problems == nil {
		c.Problems = []Problem{}
	}
	if c.Floating == nil {
		c.Floating = []Floating{}
	}
	return json.Marshal(c)
}

func (r *Report) addError(code, file, format string, args ...any) *Problem {
	r.Problems = append(r.Problems, Problem{Severity: Error, Code: code, Message: fmt.Sprintf(format, args...), File: file})
	return &r.Problems[len(r.Problems)-1]
}

// effective merges what was read into r.Effective.
func (r *Report) effective(c *checker, o Options) {
	root := without(c.source.Root, "", c.bad)
	vars := &Variables{LocalFolder: o.Folder, LocalEnvironment: o.Environment, ID: ID(o.labels(r.File))}
	folder := defaultFolder(r.Kind, o.Folder)
	if v := root.Get("workspaceFolder"); v != nil {
		folder = vars.Replace(v.Str)
	}
	vars.ContainerFolder = folder

	e := &Effective{}
	for _, s := range r.imageSnippets(o.ImageMetadata, vars) {
		e.merge(s)
	}
	own, err := newSnippet(fromDefinition, root.Map(vars.Replace))
	if err != nil {
		c.add(Error, "wrong-type", c.source.Root.Offset, "", "%v", err)
		return
	}
	e.merge(own)
	e.WorkspaceFolder = folder
	e.build(root, vars, c.folder)
	for i, file := range e.DockerComposeFile {
		e.DockerComposeFile[i] = path.Join(c.folder, file)
	}
	e.fillDefaults(r.Kind)
	r.Effective = e
}

func (o Options) labels(file string) map[string]string {
	if o.Labels != nil {
		return o.Labels
	}
	return map[string]string{"devcontainer.local_folder": o.Folder, "devcontainer.config_file": path.Join(o.Folder, file)}
}

// build brings the two spellings of a Dockerfile definition together and makes its
// paths relative to the repository.
func (e *Effective) build(root *Value, vars *Variables, folder string) {
	if old := root.Get("dockerFile"); old != nil && e.Build == nil {
		e.Build = &Build{Dockerfile: vars.Replace(old.Str)}
		if context := root.Get("context"); context != nil {
			e.Build.Context = vars.Replace(context.Str)
		}
	}
	if e.Build != nil {
		e.Build.Dockerfile = path.Join(folder, e.Build.Dockerfile)
		e.Build.Context = path.Join(folder, e.Build.Context)
	}
}

// without copies a value and leaves out the bad parts.
func without(v *Value, at string, bad map[string]bool) *Value {
	c := *v
	c.Items, c.Members = nil, nil
	for i, item := range v.Items {
		if p := pointer(at, i); !bad[p] {
			c.Items = append(c.Items, without(item, p, bad))
		}
	}
	for _, m := range v.Members {
		if p := pointer(at, m.Name); !bad[p] {
			c.Members = append(c.Members, Member{m.Name, m.NameOffset, without(m.Value, p, bad)})
		}
	}
	return &c
}

// imageSnippets reads the label `devcontainer.metadata`: a list of snippets or one.
func (r *Report) imageSnippets(label []byte, vars *Variables) []*snippet {
	if len(strings.TrimSpace(string(label))) == 0 {
		return nil
	}
	t, err := ParseText("devcontainer.metadata", label)
	if err != nil {
		r.addError("bad-metadata", "", "the image's label devcontainer.metadata is no JSON: %v", err)
		return nil
	}
	entries := []*Value{t.Root}
	if t.Root.Kind == Array {
		entries = t.Root.Items
	}
	var list []*snippet
	for _, entry := range entries {
		if entry.Kind != Object {
			r.addError("bad-metadata", "", "the image's label devcontainer.metadata holds %s where an object is wanted", entry.Kind)
			continue
		}
		s, err := newSnippet(fromImage, entry.Map(vars.Replace))
		if err != nil {
			r.addError("bad-metadata", "", "the image's label devcontainer.metadata: %v", err)
			continue
		}
		list = append(list, s)
	}
	return list
}

func (r *Report) float() {
	if r.Effective == nil || r.Effective.Image == "" || strings.Contains(r.Effective.Image, "@sha256:") {
		return
	}
	r.Floating = append(r.Floating, Floating{"image", r.Effective.Image, "a tag may be moved; a digest (@sha256:…) may not"})
}

// digest is over all that was read: the definition without comments, spacing and the
// order of names where order has no meaning, and the image's metadata.
func digest(r *Report, o Options) string {
	h := sha256.New()
	write := func(name string, b []byte) { fmt.Fprintf(h, "%s %d\n%s\n", name, len(b), b) }
	canonical, err := json.Marshal(r.Text.Root.ordered())
	if err != nil {
		return ""
	}
	write(r.File, canonical)
	if len(o.ImageMetadata) > 0 {
		write("image", o.ImageMetadata)
	}
	return "sha256:" + hex.EncodeToString(h.Sum(nil))
}

// ordered gives the value with the names of objects sorted, but for lifecycle commands
// and features, where their order may matter to what is printed and installed.
func (v *Value) ordered() any {
	object, ok := v.Any().(map[string]any)
	if !ok {
		return v.Any()
	}
	for _, name := range append([]string{"initializeCommand"}, Lifecycle...) {
		if command := v.Get(name); command != nil {
			object[name] = compact(command)
		}
	}
	return object
}
