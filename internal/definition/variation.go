package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"domicile/internal/fault"
)

// Variation sets one property of a definition to another value than its file says, so that one
// definition can be made in several versions.
type Variation struct {
	// Key is the property: image, build.args.NAME, features.ID.OPTION or containerEnv.NAME. ID is
	// a feature's reference as it is written, or the last part of it without its version.
	Key string `json:"key"`
	// Value is what stands there instead. For image it is a tag, or a whole reference.
	Value string `json:"value"`
}

// String writes a variation as it is given.
func (v Variation) String() string { return v.Key + "=" + v.Value }

const maxVariation = 500 // of key and value, in bytes

var (
	anOption   = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_-]*$`)
	aTag       = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]{0,127}$`)
	aReference = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/@-]*$`)
)

// Check refuses what can vary no definition. The error is a *fault.Fault.
func (v Variation) Check() error {
	remedy := "give image=TAG, features.FEATURE.OPTION=VALUE, build.args.NAME=VALUE or containerEnv.NAME=VALUE"
	where, name := v.split()
	switch {
	case len(v.Key)+len(v.Value) > maxVariation:
		return fault.New("bad-variation", remedy, "a variation has at most %d characters", maxVariation)
	case strings.ContainsFunc(v.Key+v.Value, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return fault.New("bad-variation", remedy, "a variation has no line ends or control characters")
	case v.Key == "image" && !aTag.MatchString(v.Value) && !aReference.MatchString(v.Value):
		return fault.New("bad-variation", "give a tag, such as 13, or a whole reference", "%q is no image", v.Value)
	case v.Key == "image":
		return nil
	case where == "" || !anOption.MatchString(name):
		return fault.New("bad-variation", remedy, "%q names no property that can be varied", v.Key)
	}
	return nil
}

// split gives the object that a key's last name is in: build.args, containerEnv, or features.ID.
func (v Variation) split() (where, name string) {
	at := strings.LastIndexByte(v.Key, '.')
	if at < 0 {
		return "", v.Key
	}
	where, name = v.Key[:at], v.Key[at+1:]
	if where == "build.args" || where == "containerEnv" || strings.HasPrefix(where, "features.") && len(where) > len("features.") {
		return where, name
	}
	return "", name
}

// vary changes a definition's tree before it is looked at: what is wrong with the outcome is told
// as if the file said so.
func (c *checker) vary(root *Value, list []Variation) {
	for _, v := range list {
		if err := v.Check(); err != nil {
			c.cannotVary(root, v, err.Error())
			continue
		}
		where, name := v.split()
		switch {
		case v.Key == "image":
			c.varyImage(root, v)
		case where == "build.args":
			build := root.Get("build")
			if build == nil || build.Kind != Object {
				c.cannotVary(root, v, "the definition has no build")
				continue
			}
			build.within("args").set(name, text(build.Offset, v.Value))
		case where == "containerEnv":
			root.within("containerEnv").set(name, text(root.Offset, v.Value))
		default:
			c.varyFeature(root, v, strings.TrimPrefix(where, "features."), name)
		}
	}
}

func (c *checker) cannotVary(at *Value, v Variation, why string) {
	p := c.add(Error, "bad-variation", at.Offset, "", "%s cannot be varied: %s", v.Key, why)
	p.Suggestion = "domicile check, which shows what the definition has"
}

func (c *checker) varyImage(root *Value, v Variation) {
	image := root.Get("image")
	if image == nil || image.Kind != String {
		c.cannotVary(root, v, "the definition has no image")
		return
	}
	if !aTag.MatchString(v.Value) {
		image.Str = v.Value
		return
	}
	name, _, _ := strings.Cut(image.Str, "@")
	if colon := strings.LastIndexByte(name, ':'); colon > strings.LastIndexByte(name, '/') {
		name = name[:colon]
	}
	image.Str = name + ":" + v.Value
}

func (c *checker) varyFeature(root *Value, v Variation, id, option string) {
	features := root.Get("features")
	if features == nil || features.Kind != Object {
		c.cannotVary(root, v, "the definition has no features")
		return
	}
	var found, has []string
	for _, m := range features.Members {
		has = append(has, shortID(m.Name))
		if m.Name == id || shortID(m.Name) == id {
			found = append(found, m.Name)
		}
	}
	slices.Sort(found)
	switch found = slices.Compact(found); len(found) {
	case 0:
		c.cannotVary(features, v, fmt.Sprintf("the definition has no feature %s, but %s", id, strings.Join(has, ", ")))
		return
	case 1:
	default:
		c.cannotVary(features, v, fmt.Sprintf("several features are called %s: name one by its whole reference", id))
		return
	}
	m := features.Member(found[0])
	options := m.Value
	if options.Kind != Object { // a version alone, as the standard allows
		whole := &Value{Kind: Object, Offset: options.Offset}
		if options.Kind == String {
			whole.set("version", options)
		}
		options, m.Value = whole, whole
	}
	value := text(options.Offset, v.Value)
	if v.Value == "true" || v.Value == "false" {
		value = &Value{Kind: Bool, Offset: options.Offset, Raw: v.Value}
	}
	options.set(option, value)
}

// shortID is the last part of a feature's reference, without its version.
func shortID(reference string) string {
	reference = reference[strings.LastIndexByte(reference, '/')+1:]
	reference, _, _ = strings.Cut(reference, "@")
	id, _, _ := strings.Cut(reference, ":")
	return id
}

func text(offset int, s string) *Value { return &Value{Kind: String, Offset: offset, Str: s} }

// within gives the object of that name, and makes it where there is none.
func (v *Value) within(name string) *Value {
	if o := v.Get(name); o != nil && o.Kind == Object {
		return o
	}
	o := &Value{Kind: Object, Offset: v.Offset}
	v.set(name, o)
	return o
}

// set sets a member, which keeps its place where it is there.
func (v *Value) set(name string, value *Value) {
	if m := v.Member(name); m != nil {
		value.Offset = m.Value.Offset
		m.Value = value
		return
	}
	v.Members = append(v.Members, Member{Name: name, NameOffset: value.Offset, Value: value})
}

// ParseVariations reads variations that are written as KEY=VALUE. The error is a *fault.Fault.
func ParseVariations(texts []string) (list []Variation, err error) {
	for _, text := range texts {
		key, value, found := strings.Cut(text, "=")
		if !found {
			return nil, fault.New("bad-variation", "write KEY=VALUE, such as image=13", "%q sets nothing", text)
		}
		v := Variation{Key: strings.TrimSpace(key), Value: value}
		if err := v.Check(); err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	return list, nil
}
