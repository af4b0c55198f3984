package definition

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// The files of a feature's folder.
const (
	featureFile   = "devcontainer-feature.json"
	installScript = "install.sh"
)

// featureMetadata is what devcontainer-feature.json says (the standard's "Features").
type featureMetadata struct {
	ID, Version, Name string
	DocumentationURL  string
	Options           []featureOption
	DependsOn         *Value // an object, or nil
	InstallsAfter     []string
	LegacyIDs         []string
	Deprecated        bool
	snippet           *Value // the properties that count in the merge
	script            []byte // install.sh
	text              *Text
	hasErrors         bool
}

// featureOption is one option of a feature or a template.
type featureOption struct {
	Name        string
	Boolean     bool
	Default     any      // string or bool; nil: none
	Enum        []string // closed list; empty: any value
	Proposals   []string // open list
	Description string
}

// featureProperties are the properties of devcontainer-feature.json.
var featureProperties = map[string]func(*checker, *Value, string){
	"$schema": (*checker).text, "id": (*checker).text, "version": (*checker).text, "name": (*checker).text, "description": (*checker).text,
	"documentationURL": (*checker).text, "licenseURL": (*checker).text, "keywords": (*checker).texts,
	"options": (*checker).options, "containerEnv": (*checker).variables, "privileged": (*checker).boolean, "init": (*checker).boolean,
	"capAdd": (*checker).texts, "securityOpt": (*checker).texts, "entrypoint": (*checker).text, "mounts": (*checker).mounts,
	"customizations": (*checker).customizations, "dependsOn": (*checker).features, "installsAfter": (*checker).texts,
	"legacyIds": (*checker).texts, "deprecated": (*checker).boolean,
	"onCreateCommand": (*checker).command, "updateContentCommand": (*checker).command, "postCreateCommand": (*checker).command,
	"postStartCommand": (*checker).command, "postAttachCommand": (*checker).command,
}

// mergedFromFeatures are the properties of a feature that take part in the merge.
var mergedFromFeatures = append([]string{"containerEnv", "privileged", "init", "capAdd", "securityOpt", "entrypoint", "mounts", "customizations"}, Lifecycle...)

// options checks the `options` of a feature or a template.
func (c *checker) options(v *Value, path string) {
	if !c.expect(v, path, Object) {
		return
	}
	for _, m := range v.Members {
		at := pointer(path, m.Name)
		c.members(m.Value, at, map[string]func(*checker, *Value, string){
			"type": oneOf("string", "boolean"), "default": (*checker).optionValue, "description": (*checker).text,
			"enum": (*checker).texts, "proposals": (*checker).texts,
		})
		if m.Value.Kind == Object && m.Value.Get("type") == nil {
			c.wrong(m.Value, at, "missing-property", "option %s needs a type: string or boolean", m.Name)
		}
		c.optionDefault(m.Name, m.Value, at)
	}
}

// optionDefault judges a default as a value that a person would give.
func (c *checker) optionDefault(name string, option *Value, at string) {
	d, kind := option.Get("default"), option.Get("type")
	if option.Kind != Object || d == nil || kind == nil || c.bad[pointer(at, "default")] {
		return
	}
	at = pointer(at, "default")
	if enum := words(option.Get("enum")); len(enum) > 0 && d.Kind == String && !slices.Contains(enum, d.Str) {
		c.wrong(d, at, "bad-default", "the default %q of the option %s is none of its enum: %s", d.Str, name, strings.Join(enum, ", ")).Suggestion = Closest(d.Str, enum)
	}
	if isBool := d.Kind == Bool || d.Str == "true" || d.Str == "false"; kind.Str == "boolean" && !isBool {
		c.wrong(d, at, "bad-default", "the default %q of the option %s is neither true nor false", d.Str, name)
	}
}

func (c *checker) optionValue(v *Value, path string) {
	if v.Kind != String && v.Kind != Bool {
		c.wrong(v, path, "wrong-type", "%s must be a string or true or false, not %s", display(path), v.Kind)
	}
}

// readFeature reads a feature's folder. file is how its metadata is named in problems.
func readFeature(files fs.FS, file string) (*featureMetadata, []Problem) {
	m := &featureMetadata{}
	b, err := fs.ReadFile(files, featureFile)
	if err != nil {
		m.hasErrors = true
		return m, []Problem{{Severity: Error, Code: "feature-incomplete", File: file, Message: fmt.Sprintf("the feature has no %s that can be read: %v", featureFile, reason(err))}}
	}
	m.text, err = ParseText(file, b)
	if err != nil {
		m.hasErrors = true
		return m, []Problem{syntaxProblem(m.text, err)}
	}
	c := &checker{problems: problems{source: m.text}, bad: map[string]bool{}}
	root := m.text.Root
	c.members(root, "", featureProperties)
	if root.Kind == Object {
		m.take(c, without(root, "", c.bad))
	}
	if m.script, err = fs.ReadFile(files, installScript); err != nil {
		c.add(Error, "feature-incomplete", root.Offset, "", "the feature has no %s beside this file: %v", installScript, reason(err))
	}
	for _, p := range c.list {
		m.hasErrors = m.hasErrors || p.Severity == Error
	}
	return m, c.list
}

func (m *featureMetadata) take(c *checker, root *Value) {
	word := func(name string) string {
		if v := root.Get(name); v != nil {
			return v.Str
		}
		return ""
	}
	m.ID, m.Version, m.Name, m.DocumentationURL = word("id"), word("version"), word("name"), word("documentationURL")
	for _, name := range []string{"id", "version"} {
		if word(name) == "" && !c.bad["/"+name] {
			c.add(Error, "missing-property", root.Offset, "/"+name, "a feature needs %s", name)
		}
	}
	if v := root.Member("version"); v != nil && v.Value.Str != "" && !isVersion(v.Value.Str) {
		c.add(Warning, "bad-version", v.Value.Offset, "/version", "%q is no semantic version such as 1.2.3", v.Value.Str)
	}
	m.Options = readOptions(root.Get("options"))
	m.DependsOn = root.Get("dependsOn")
	m.InstallsAfter, m.LegacyIDs = words(root.Get("installsAfter")), words(root.Get("legacyIds"))
	if v := root.Get("deprecated"); v != nil {
		m.Deprecated = v.Raw == "true"
	}
	m.snippet = &Value{Kind: Object}
	for _, member := range root.Members {
		if slices.Contains(mergedFromFeatures, member.Name) {
			m.snippet.Members = append(m.snippet.Members, member)
		}
	}
}

func readOptions(v *Value) (list []featureOption) {
	if v == nil {
		return nil
	}
	for _, member := range v.Members {
		o := featureOption{Name: member.Name, Enum: words(member.Value.Get("enum")), Proposals: words(member.Value.Get("proposals"))}
		if t := member.Value.Get("type"); t != nil {
			o.Boolean = t.Str == "boolean"
		}
		if d := member.Value.Get("default"); d != nil {
			o.Default = d.Any()
		}
		if d := member.Value.Get("description"); d != nil {
			o.Description = d.Str
		}
		if o.Default == nil && o.Boolean {
			o.Default = false
		}
		list = append(list, o)
	}
	return list
}

func words(v *Value) (list []string) {
	if v == nil {
		return nil
	}
	for _, item := range v.Items {
		list = append(list, item.Str)
	}
	return list
}

// environmentName turns an option's name into that of its variable (the standard's
// "Option resolution").
func environmentName(option string) string {
	var b strings.Builder
	for _, r := range option {
		if r == '_' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' {
			b.WriteRune(r)
		} else {
			b.WriteByte('_')
		}
	}
	name := b.String()
	if rest := strings.TrimLeft(name, "0123456789_"); rest != name {
		name = "_" + rest
	}
	return strings.ToUpper(name)
}

// containerEnv lists the variables that the feature adds to the image, in order.
func (m *featureMetadata) containerEnv() (list []Variable) {
	if m.snippet == nil {
		return nil
	}
	if env := m.snippet.Get("containerEnv"); env != nil {
		for _, v := range env.Members {
			list = append(list, Variable{v.Name, v.Value.Str})
		}
	}
	return list
}
