package compose

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// canonical reads one YAML document and gives it with every alias and merge key replaced
// by what it stands for. The loader is given what was looked at here, written anew, and so
// cannot read anything else than was looked at: how a thing is spelled does not matter.
func canonical(b []byte) (root *yaml.Node, err error) {
	defer func() {
		if r := recover(); r != nil { // of the YAML library
			err = errUnreadable
		}
	}()
	d := yaml.NewDecoder(bytes.NewReader(b))
	document := &yaml.Node{}
	if err := d.Decode(document); err == io.EOF {
		return nil, errors.New("line 1: the file is empty")
	} else if err != nil {
		return nil, err
	}
	if err := d.Decode(&yaml.Node{}); err != io.EOF {
		if err == nil {
			err = errors.New("it has several documents; write one")
		}
		return nil, fmt.Errorf("line 1: %w", err)
	}
	c := &canonicaliser{}
	return c.node(document, 0)
}

// The bounds of a tree with all that its aliases stand for.
const maxDepth = 64

type canonicaliser struct{ nodes int }

func (c *canonicaliser) node(n *yaml.Node, depth int) (*yaml.Node, error) {
	if c.nodes++; c.nodes > maxNodes || depth > maxDepth {
		return nil, fmt.Errorf("line %d: it is too large or too deep, with all that its aliases stand for", n.Line)
	}
	if n.Kind == yaml.AliasNode {
		if n.Alias == nil {
			return nil, fmt.Errorf("line %d: an alias stands for nothing", n.Line)
		}
		return c.node(n.Alias, depth+1)
	}
	if err := checkTag(n); err != nil {
		return nil, err
	}
	out := &yaml.Node{Kind: n.Kind, Tag: n.Tag, Value: n.Value, Line: n.Line, Column: n.Column}
	switch n.Kind {
	case yaml.MappingNode:
		return out, c.mapping(n, out, depth)
	case yaml.DocumentNode, yaml.SequenceNode:
		for _, child := range n.Content {
			made, err := c.node(child, depth+1)
			if err != nil {
				return nil, err
			}
			out.Content = append(out.Content, made)
		}
	case yaml.ScalarNode:
		if n.ShortTag() == "!!str" {
			out.Tag, out.Style = "!!str", yaml.DoubleQuotedStyle
		}
	}
	return out, nil
}

// mapping copies a mapping; what stands in it wins over what is merged in, and of several
// that are merged in the first one wins.
func (c *canonicaliser) mapping(n, out *yaml.Node, depth int) error {
	if len(n.Content)%2 != 0 {
		return errUnreadable
	}
	var merged []*yaml.Node
	for i := 0; i < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if key.Kind != yaml.ScalarNode {
			return fmt.Errorf("line %d: a key is no plain word", key.Line)
		}
		if key.ShortTag() == "!!merge" || key.Value == "<<" {
			merged = append(merged, value)
			continue
		}
		if _, there := pair(out, key.Value); there != nil {
			return fmt.Errorf("line %d: %s stands there twice", key.Line, key.Value)
		}
		made, err := c.node(value, depth+1)
		if err != nil {
			return err
		}
		out.Content = append(out.Content, plainKey(key), made)
	}
	for _, m := range merged {
		if err := c.merge(m, out, depth+1); err != nil {
			return err
		}
	}
	return nil
}

func (c *canonicaliser) merge(m, out *yaml.Node, depth int) error {
	whole, err := c.node(m, depth)
	if err != nil {
		return err
	}
	list := []*yaml.Node{whole}
	if whole.Kind == yaml.SequenceNode {
		list = whole.Content
	}
	for _, from := range list {
		if from.Kind != yaml.MappingNode {
			return fmt.Errorf("line %d: << merges mappings only", m.Line)
		}
		for i := 0; i+1 < len(from.Content); i += 2 {
			if _, there := pair(out, from.Content[i].Value); there == nil {
				out.Content = append(out.Content, from.Content[i], from.Content[i+1])
			}
		}
	}
	return nil
}

func plainKey(k *yaml.Node) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: k.Value, Style: yaml.DoubleQuotedStyle, Line: k.Line, Column: k.Column}
}

// known are the tags that a Compose file may have: YAML's own for plain data, and the two
// that say how files are merged.
var known = []string{"", "!", "!!str", "!!int", "!!float", "!!bool", "!!null", "!!map", "!!seq", "!!timestamp", "!!merge", "!reset", "!override"}

func checkTag(n *yaml.Node) error {
	tag := n.Tag
	if n.Kind != yaml.DocumentNode && !strings.HasPrefix(tag, "!reset") && !strings.HasPrefix(tag, "!override") {
		tag = n.ShortTag()
	}
	if !slices.Contains(known, tag) {
		return fmt.Errorf("line %d: the tag %s is not known here", n.Line, tag)
	}
	return nil
}

// write writes the tree so that it can be read in one way only.
func write(root *yaml.Node) ([]byte, error) {
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	if err := e.Encode(root); err != nil {
		return nil, fmt.Errorf("write it anew: %w", err)
	}
	return b.Bytes(), e.Close()
}
