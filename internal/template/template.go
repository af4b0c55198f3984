// Package template reads the standard's templates and makes of them the files of a
// repository. It does no I/O of its own: files come from an fs.FS and go out as data.
package template

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"domicile/internal/definition"
	"domicile/internal/fault"
)

// metadataFile describes a template and is not written into the repository.
const metadataFile = "devcontainer-template.json"

// maxSize bounds all files of a template together, in bytes.
const maxSize = 16 << 20

// Template is a template (the standard's "devcontainer-template.json properties").
type Template struct {
	ID            string   `json:"id"`
	Version       string   `json:"version"`
	Name          string   `json:"name"`
	Description   string   `json:"description,omitempty"`
	Documentation string   `json:"documentationURL,omitempty"`
	Platforms     []string `json:"platforms,omitempty"`
	Keywords      []string `json:"keywords,omitempty"`
	OptionalPaths []string `json:"optionalPaths,omitempty"`
	Options       []Option `json:"options"` // in the order of the text
	Files         []string `json:"files"`   // what it writes

	contents map[string]File
}

// Option is one option of a template.
type Option struct {
	Name        string   `json:"name"`
	Type        string   `json:"type"` // string or boolean
	Description string   `json:"description,omitempty"`
	Default     string   `json:"default,omitempty"`
	Enum        []string `json:"enum,omitempty"`      // closed list
	Proposals   []string `json:"proposals,omitempty"` // open list
}

// File is one file to write.
type File struct {
	Content    []byte
	Executable bool
}

// Read reads a template's folder.
func Read(files fs.FS) (*Template, error) {
	b, err := fs.ReadFile(files, metadataFile)
	if err != nil {
		return nil, fault.Wrap(err, "not-a-template", "give the folder or the reference of a template", "there is no %s", metadataFile)
	}
	text, err := definition.ParseText(metadataFile, b)
	if err != nil {
		return nil, fault.Wrap(err, "bad-template", "correct it, or use another template", "%s is no valid JSON with comments", metadataFile)
	}
	t := &Template{contents: map[string]File{}, Options: []Option{}}
	plain, err := json.Marshal(text.Root.Any())
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", metadataFile, err)
	}
	var about struct {
		ID, Version, Name, Description, DocumentationURL string
		Platforms, Keywords, OptionalPaths               []string
		Options                                          map[string]struct {
			Type, Description string
			Default           any
			Enum, Proposals   []string
		}
	}
	if err := json.Unmarshal(plain, &about); err != nil {
		return nil, fault.Wrap(err, "bad-template", "correct it, or use another template", "%s does not have the standard's form", metadataFile)
	}
	t.ID, t.Version, t.Name, t.Description, t.Documentation = about.ID, about.Version, about.Name, about.Description, about.DocumentationURL
	t.Platforms, t.Keywords, t.OptionalPaths = about.Platforms, about.Keywords, about.OptionalPaths
	if options := text.Root.Get("options"); options != nil {
		for _, m := range options.Members {
			o := about.Options[m.Name]
			option := Option{Name: m.Name, Type: o.Type, Description: o.Description, Enum: o.Enum, Proposals: o.Proposals}
			if o.Default != nil {
				option.Default = fmt.Sprint(o.Default)
			}
			t.Options = append(t.Options, option)
		}
	}
	return t, t.read(files)
}

func (t *Template) read(files fs.FS) error {
	left := int64(maxSize)
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || name == metadataFile {
			return err
		}
		if !d.Type().IsRegular() {
			return fault.New("bad-template", "use another template", "%s in the template is no plain file", name)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if left -= info.Size(); left < 0 {
			return fault.New("bad-template", "use another template", "the template has more than %d bytes", maxSize)
		}
		b, err := fs.ReadFile(files, name)
		if err != nil {
			return err
		}
		t.contents[name] = File{b, info.Mode()&0o111 != 0}
		t.Files = append(t.Files, name)
		return nil
	})
	if err != nil {
		return fmt.Errorf("read the template: %w", err)
	}
	sort.Strings(t.Files)
	return nil
}

var placeholder = regexp.MustCompile(`\$\{templateOption:\s*([^}\s]+)\s*\}`)

// Apply gives the files that the template writes with these options; those without a
// value get their default. Optional paths that stand in leaveOut are left out.
func (t *Template) Apply(options map[string]string, leaveOut []string) (map[string]File, error) {
	values := map[string]string{}
	for _, o := range t.Options {
		value, given := options[o.Name]
		if !given {
			value = o.Default
		}
		if err := o.check(value); err != nil {
			return nil, err
		}
		values[o.Name] = value
	}
	for name := range options {
		if !slices.ContainsFunc(t.Options, func(o Option) bool { return o.Name == name }) {
			return nil, fault.New("unknown-option", t.optionNames(), "the template %s has no option %q", t.ID, name)
		}
	}
	for _, p := range leaveOut {
		if !slices.Contains(t.OptionalPaths, p) {
			return nil, fault.New("unknown-path", "these may be left out: "+strings.Join(t.OptionalPaths, ", "), "%q is no optional path of the template", p)
		}
	}
	out := map[string]File{}
	for name, f := range t.contents {
		if slices.ContainsFunc(leaveOut, func(p string) bool { return matches(p, name) }) {
			continue
		}
		if utf8.Valid(f.Content) {
			f.Content = placeholder.ReplaceAllFunc(f.Content, func(b []byte) []byte {
				if value, known := values[string(placeholder.FindSubmatch(b)[1])]; known {
					return []byte(value)
				}
				return b
			})
		}
		out[name] = f
	}
	return out, nil
}

func (t *Template) optionNames() string {
	if len(t.Options) == 0 {
		return "it has no options"
	}
	var names []string
	for _, o := range t.Options {
		names = append(names, o.Name)
	}
	return "it has " + strings.Join(names, ", ")
}

func (o Option) check(value string) error {
	if o.Type == "boolean" && value != "true" && value != "false" && value != "" {
		return fault.New("bad-option", "give true or false", "the option %s cannot be %q", o.Name, value)
	}
	if len(o.Enum) > 0 && !slices.Contains(o.Enum, value) {
		return fault.New("bad-option", "it is one of: "+strings.Join(o.Enum, ", "), "the option %s cannot be %q", o.Name, value)
	}
	return nil
}

// matches tells whether an optional path, a file or a folder with /*, covers a file.
func matches(pattern, name string) bool {
	if folder, all := strings.CutSuffix(pattern, "/*"); all {
		return strings.HasPrefix(name, strings.TrimPrefix(folder, "./")+"/")
	}
	return path.Clean(pattern) == name
}
