package definition

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"
)

// The kinds of definition: what the workspace's container comes from.
const (
	KindImage      = "image"
	KindDockerfile = "dockerfile"
	KindCompose    = "compose"
)

const (
	fromImage      = "image"
	fromDefinition = "definition"
)

// Options says how to read.
type Options struct {
	// File chooses a definition, as a path inside the repository. Empty: the only one.
	File string
	// Folder is where the repository lies: ${localWorkspaceFolder}.
	Folder string
	// Environment is asked for ${localEnv:NAME}; nil knows no variable.
	Environment func(name string) (string, bool)
	// Labels identify the container for ${devcontainerId}; nil: those the standard's
	// example uses, made from Folder and the definition's path.
	Labels map[string]string
	// ImageMetadata is the text of the base image's label `devcontainer.metadata`; empty: none.
	ImageMetadata []byte
	// Artifacts fetches features that are not in the repository; nil knows none.
	Artifacts Artifacts
	// Images looks images up; nil knows none.
	Images Images
	// Compose reads Compose files; nil: they are not looked into.
	Compose ComposeReader
	// IgnoreLocks reads as if there were no lock files, to see what they would become.
	IgnoreLocks bool
	// Variations are set in the definition before it is looked at, in their order.
	Variations []Variation
}

// Read reads the definition of a repository. It always returns a report; what is wrong
// with the definition stands in its problems, in file order.
func Read(ctx context.Context, files fs.FS, o Options) *Report {
	r := &Report{LocalFolder: o.Folder}
	r.File = choose(files, o.File, r)
	if r.File == "" {
		return r
	}
	b, err := fs.ReadFile(files, r.File)
	if err != nil {
		r.addError("no-definition", r.File, "cannot read the definition: %v", reason(err))
		return r
	}
	t, err := ParseText(r.File, b)
	r.Text = t
	c := &checker{problems: problems{source: t}, folder: path.Dir(r.File), bad: map[string]bool{}}
	defer func() {
		r.Problems = append(r.Problems, c.list...)
		sortProblems(r.Problems)
	}()
	if err != nil {
		r.Problems = append(r.Problems, syntaxProblem(t, err))
		return r
	}
	if !c.expect(t.Root, "", Object) {
		c.list[0].Message = "a definition must be an object, not " + t.Root.Kind.String()
		return r
	}
	c.vary(t.Root, o.Variations)
	r.Kind = c.kind(t.Root)
	c.properties(t.Root, r.Kind)
	r.Locks = &Locks{}
	if !o.IgnoreLocks {
		r.readLocks(files)
	}
	r.effective(ctx, c, files, o)
	r.questionsInCommands(c, files, t.Root)
	r.float()
	r.staleLocks()
	r.read(r.File, t.Root.canonical())
	r.Digest = r.inputs.digest()
	return r
}

func reason(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

func choose(files fs.FS, file string, r *Report) string {
	found := Locate(files)
	if file != "" {
		file = path.Clean(strings.TrimPrefix(file, "./"))
		if fs.ValidPath(file) && regular(files, file) {
			return file
		}
		r.addError("no-definition", "", "there is no file %s in the repository%s", file, among(found))
		return ""
	}
	switch len(found) {
	case 0:
		p := r.addError("no-definition", "", "the repository has no .devcontainer/devcontainer.json, no .devcontainer.json and no .devcontainer/<folder>/devcontainer.json")
		p.Suggestion = "domicile draft, which writes one from what the repository shows"
		return ""
	case 1:
		return found[0]
	}
	p := r.addError("several-definitions", "", "the repository has several definitions, choose one%s", among(found))
	p.Suggestion = "-file " + found[0]
	return ""
}

func among(found []string) string {
	if len(found) == 0 {
		return ""
	}
	return ": " + strings.Join(found, ", ")
}

// kind finds out what the container comes from. Exactly one property may say so.
func (c *checker) kind(root *Value) string {
	kind, first := "", ""
	for _, m := range root.Members {
		var k string
		switch m.Name {
		case "image":
			k = KindImage
		case "build", "dockerFile":
			k = KindDockerfile
		case "dockerComposeFile":
			k = KindCompose
		default:
			continue
		}
		if kind != "" && k != kind {
			c.add(Error, "several-kinds", m.NameOffset, pointer("", m.Name), "%s and %s cannot stand together: a definition comes from an image, a Dockerfile or Compose files", first, m.Name)
			continue
		}
		if kind == "" {
			kind, first = k, m.Name
		}
	}
	if kind == "" {
		p := c.add(Error, "no-kind", root.Offset, "", "nothing says what the workspace comes from: image, build or dockerComposeFile is needed")
		p.Suggestion = "\"image\": \"…\""
	}
	if kind == KindCompose && root.Get("service") == nil {
		c.add(Error, "missing-property", root.Offset, "/service", "a Compose definition needs service, the name of the service to work in")
	}
	return kind
}

var kindBits = map[string]kinds{KindImage: forImage, KindDockerfile: forDockerfile, KindCompose: forCompose, "": forAny}

func (c *checker) properties(root *Value, kind string) {
	seen := map[string]bool{}
	for _, m := range root.Members {
		at := pointer("", m.Name)
		if seen[m.Name] {
			c.add(Warning, "stands-twice", m.NameOffset, at, "%s stands twice; this later one counts", m.Name)
		}
		seen[m.Name] = true
		p := findProperty(m.Name)
		if p == nil {
			c.unknown(m, at, propertyNames())
			continue
		}
		p.check(c, m.Value, at)
		if c.bad[at] {
			continue
		}
		if p.kinds&kindBits[kind] == 0 && !isKindProperty(m.Name) { // several-kinds has told of those
			c.add(Warning, "no-effect", m.NameOffset, at, "%s has no effect in a definition of kind %s", m.Name, kind)
		}
	}
	if root.Get("workspaceMount") != nil && root.Get("workspaceFolder") == nil {
		m := root.Member("workspaceMount")
		c.add(Error, "missing-property", m.NameOffset, "/workspaceMount", "workspaceMount needs workspaceFolder beside it")
	}
}

func isKindProperty(name string) bool {
	return name == "image" || name == "build" || name == "dockerFile" || name == "dockerComposeFile" || name == "context"
}
