package definition

import (
	"context"
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"domicile/internal/fault"
)

// Report is what reading a definition found: the answer of `domicile check -json`.
type Report struct {
	File      string           `json:"file,omitempty"`
	Kind      string           `json:"kind,omitempty"`
	Makes     []Fact           `json:"makes"` // what the definition makes, in words
	Effective *Effective       `json:"effective,omitempty"`
	Features  []Feature        `json:"features"`
	Services  []ComposeService `json:"services,omitempty"`
	Images    []Image          `json:"images"`
	Problems  []Problem        `json:"problems"`
	Floating  []Floating       `json:"floating"`
	Domicile  *Domicile        `json:"domicile,omitempty"` // customizations.domicile of all sources, merged
	// Origins tells of each value of Effective, by JSON pointer, where it came from:
	// "image", a feature's reference, "definition" or "default".
	Origins map[string]string `json:"origins,omitempty"`
	Digest  string            `json:"digest,omitempty"`

	Text *Text `json:"-"` // nil where there was no file
	// LocalFolder is where the repository lies: Options.Folder.
	LocalFolder string `json:"-"`
	// Locks are the pins beside the definition.
	Locks *Locks `json:"-"`
	// Transient is the first failure to fetch something that may go away by itself.
	Transient error  `json:"-"`
	ownLabel  string // devcontainer.metadata of the Dockerfile itself
	// BaseUser is who the Dockerfile's or the service's programs run as; empty: the base image's.
	BaseUser string `json:"-"`
	// Metadata are the entries of the label devcontainer.metadata that an image made from
	// this definition carries (the standard's "Image metadata").
	Metadata []json.RawMessage `json:"-"`

	inputs inputs
	caches map[string]bool // Dockerfiles that keep caches between builds
}

// Feature is one feature in installation order.
type Feature struct {
	Reference        string            `json:"reference"`
	ID               string            `json:"id"`
	Version          string            `json:"version,omitempty"`
	Name             string            `json:"name,omitempty"`
	DocumentationURL string            `json:"documentationURL,omitempty"`
	Options          map[string]any    `json:"options"`
	Env              map[string]string `json:"env"`
	AddedBy          string            `json:"addedBy,omitempty"`
	DependsOn        []string          `json:"dependsOn,omitempty"`
	Digest           string            `json:"digest,omitempty"` // of its content
	// ContainerEnv are the variables it adds to the image, in order.
	ContainerEnv []Variable `json:"-"`

	files fs.FS
}

// Files gives the feature's folder; nil where it was not fetched.
func (f Feature) Files() fs.FS { return f.files }

// Variable is a variable of the environment.
type Variable struct{ Name, Value string }

// Floating is something that may change from one day to the next.
type Floating struct {
	Kind      string `json:"kind"` // image or feature
	Reference string `json:"reference"`
	Why       string `json:"why"`
	File      string `json:"file,omitempty"`
}

// Source is the definition's text; nil where there was no file.
func (r *Report) Source() []byte {
	if r.Text == nil {
		return nil
	}
	return r.Text.Bytes
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

// MarshalJSON writes empty lists as [], never as null, and adds what can be told of the rest.
func (r *Report) MarshalJSON() ([]byte, error) {
	type plain Report
	c := plain(*r)
	if c.Makes == nil {
		c.Makes = r.Facts()
	}
	if c.Features == nil {
		c.Features = []Feature{}
	}
	if c.Images == nil {
		c.Images = []Image{}
	}
	if c.Problems == nil {
		c.Problems = []Problem{}
	}
	if c.Floating == nil {
		c.Floating = []Floating{}
	}
	return json.Marshal(c)
}

// fetchFailed remembers a failure that may go away by itself.
func (r *Report) fetchFailed(err error) {
	if r.Transient == nil && fault.IsTransient(err) {
		r.Transient = err
	}
}

func (r *Report) addError(code, file, format string, args ...any) *Problem {
	r.Problems = append(r.Problems, Problem{Severity: Error, Code: code, Message: fmt.Sprintf(format, args...), File: file})
	return &r.Problems[len(r.Problems)-1]
}

// effective merges what was read into r.Effective.
func (r *Report) effective(ctx context.Context, c *checker, files fs.FS, o Options) {
	root := without(c.source.Root, "", c.bad)
	lookup := r.environmentRead(o.Environment)
	vars := &Variables{LocalFolder: o.Folder, LocalEnvironment: lookup, ID: ID(o.labels(r.File))}
	folder := defaultFolder(r.Kind, o.Folder)
	if v := root.Get("workspaceFolder"); v != nil {
		folder = vars.Replace(v.Str)
	}
	vars.ContainerFolder = folder
	ownValue := root.Map(vars.Replace)
	own, err := newSnippet(fromDefinition, ownValue)
	if err != nil {
		// What is wrong was named at its line, unless no rule knows it.
		if !slices.ContainsFunc(c.list, func(p Problem) bool { return p.Severity == Error }) {
			c.add(Error, "wrong-type", c.source.Root.Offset, "", "%v", err)
		}
		return
	}
	own.build(root, vars, c.folder)
	for i, file := range own.DockerComposeFile {
		own.DockerComposeFile[i] = path.Join(c.folder, file)
	}
	nodes := r.resolveFeatures(ctx, c, files, root, vars, o)
	o.Environment = lookup
	base := r.readKind(ctx, c, files, &own.Effective, o)
	label := r.resolveImages(ctx, c, base, o)
	if r.ownLabel != "" { // the image that is built has it in place of its base's
		label = []byte(r.ownLabel)
	}

	snippets := r.imageSnippets(label, vars)
	for _, n := range nodes {
		r.Features = append(r.Features, n.feature())
		r.Metadata = append(r.Metadata, n.metadata())
		r.readDigest("feature "+n.ref.Written, n.artifact.Digest+" "+n.ref.Digest)
		if n.meta == nil || n.meta.snippet == nil {
			continue
		}
		s, err := newSnippet(n.ref.Written, n.meta.snippet.Map(vars.Replace))
		if err != nil {
			c.add(Error, "wrong-type", n.place, n.path, "%v", err)
			continue
		}
		snippets = append(snippets, s)
	}
	snippets = append(snippets, own)
	r.Metadata = append(r.Metadata, ownMetadata(root))
	e, from := &Effective{}, origins{}
	for _, s := range snippets {
		e.merge(s, from)
	}
	e.WorkspaceFolder = folder
	e.fillDefaults(r.Kind)
	r.Effective, r.Origins = e, from.pointers(e)
	if r.Domicile, err = readDomicile(mergedDomicile(snippets)); err != nil {
		r.addError("bad-customization", r.File, "%v", err)
	}
	if len(label) > 0 {
		r.read("label of "+base, label)
	}
}

// readKind reads what the container comes from, and returns the image it is based on.
func (r *Report) readKind(ctx context.Context, c *checker, files fs.FS, e *Effective, o Options) (base string) {
	root := c.source.Root
	switch r.Kind {
	case KindImage:
		if m := root.Member("image"); m != nil && e.Image != "" {
			at := c.source.Position(m.Value.Offset)
			r.addImage(Image{Reference: e.Image, File: r.File, Line: at.Line})
		}
		return e.Image
	case KindDockerfile:
		m, at := root.Member("dockerFile"), "/dockerFile"
		if b := root.Get("build"); b != nil && b.Member("dockerfile") != nil {
			m, at = b.Member("dockerfile"), "/build/dockerfile"
		}
		if m == nil || e.Build == nil || e.Build.Dockerfile == "" || len(c.bad) > 0 && (c.bad[at] || c.bad["/context"] || c.bad["/build/context"]) {
			return ""
		}
		if !inside(e.Build.Dockerfile) || !inside(e.Build.Context) {
			c.add(Error, "outside-repository", m.Value.Offset, at, "the build leads out of the repository")
			return ""
		}
		if d := r.readBuild(c, files, e.Build, m.Value.Offset, at); d != nil {
			r.BaseUser, r.ownLabel = d.user, d.label
			return d.base
		}
	case KindCompose:
		base, r.BaseUser = r.readCompose(ctx, c, files, e, o)
		return base
	}
	return ""
}

// mergedDomicile puts the entries under customizations.domicile of all sources together,
// in their order.
func mergedDomicile(snippets []*snippet) *Value {
	all := &Value{Kind: Object}
	for _, s := range snippets {
		mergeMembers(all, s.domicile)
	}
	return all
}

func mergeMembers(to, from *Value) {
	if from == nil || from.Kind != Object {
		return
	}
	for _, m := range from.Members {
		old := to.Member(m.Name)
		switch {
		case old == nil:
			to.Members = append(to.Members, m)
		case old.Value.Kind == Object && m.Value.Kind == Object:
			both := &Value{Kind: Object, Members: append([]Member(nil), old.Value.Members...)}
			mergeMembers(both, m.Value)
			old.Value = both
		default:
			old.Value = m.Value
		}
	}
}

// ownMetadata is the definition's own entry in the label: what counts in a merge.
func ownMetadata(root *Value) json.RawMessage {
	v := &Value{Kind: Object}
	for _, m := range root.Members {
		switch m.Name {
		case "$schema", "name", "image", "build", "dockerFile", "context", "dockerComposeFile", "service", "runServices", "features",
			"overrideFeatureInstallOrder", "workspaceFolder", "workspaceMount", "runArgs", "appPort", "initializeCommand", "secrets":
		default:
			v.Members = append(v.Members, m)
		}
	}
	return compact(v)
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
	if old := root.Get("dockerFile"); old != nil { // beside it build may have its arguments, target and the like
		if e.Build == nil {
			e.Build = &Build{}
		}
		if e.Build.Dockerfile == "" {
			e.Build.Dockerfile = vars.Replace(old.Str)
		}
		if context := root.Get("context"); context != nil && e.Build.Context == "" {
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
	if len(bad) == 0 {
		return v
	}
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
