package definition

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/tailscale/hujson"
)

// maxDepth bounds the nesting of a text. The standard needs fewer than ten levels; the
// bound keeps a hostile text from using up the stack.
const maxDepth = 200

// MaxSize bounds a definition's text, in bytes.
const MaxSize = 4 << 20

// Text is a JSON text with comments and trailing commas whose values know where they stand.
type Text struct {
	File  string // path inside the repository
	Bytes []byte
	Root  *Value
	lines []int // offset of the start of each line
}

// Position is a place in a text. Both count from 1; the column counts characters.
type Position struct{ Line, Column int }

// Kind is the kind of a JSON value.
type Kind int

// The kinds of JSON values.
const (
	Null Kind = iota
	Bool
	Number
	String
	Array
	Object
)

// String names the kind as a person would.
func (k Kind) String() string {
	return [...]string{"null", "true or false", "a number", "a string", "a list", "an object"}[k]
}

// Value is one JSON value with its place.
type Value struct {
	Kind    Kind
	Offset  int
	Raw     string // Bool, Number: as written
	Str     string // String: decoded
	Items   []*Value
	Members []Member
}

// Member is one name and value of an object.
type Member struct {
	Name       string
	NameOffset int
	Value      *Value
}

// Get returns the member of that name, the last one where a name stands twice, or nil.
func (v *Value) Get(name string) *Value {
	if m := v.Member(name); m != nil {
		return m.Value
	}
	return nil
}

// Member is like Get and gives the name's place too.
func (v *Value) Member(name string) *Member {
	if v == nil || v.Kind != Object {
		return nil
	}
	for i := len(v.Members) - 1; i >= 0; i-- {
		if v.Members[i].Name == name {
			return &v.Members[i]
		}
	}
	return nil
}

// Position tells line and column of a byte offset.
func (t *Text) Position(offset int) Position {
	if t.lines == nil {
		t.lines = []int{0}
		for i, b := range t.Bytes {
			if b == '\n' {
				t.lines = append(t.lines, i+1)
			}
		}
	}
	offset = min(max(offset, 0), len(t.Bytes))
	line := sort.SearchInts(t.lines, offset+1) - 1
	return Position{Line: line + 1, Column: utf8.RuneCount(t.Bytes[t.lines[line]:offset]) + 1}
}

// maxLine bounds what is returned of one line, in bytes.
const maxLine = 4 << 10

// Line returns the text of a line, counted from 1, without its end; of an endless line
// its beginning.
func (t *Text) Line(n int) string {
	t.Position(0)
	if n < 1 || n > len(t.lines) {
		return ""
	}
	end := len(t.Bytes)
	if n < len(t.lines) {
		end = t.lines[n]
	}
	end = min(end, t.lines[n-1]+maxLine)
	return strings.TrimRight(string(t.Bytes[t.lines[n-1]:end]), "\r\n")
}

// A SyntaxError is a text that is no JSON even with comments and trailing commas.
type SyntaxError struct {
	Position Position
	Reason   string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Position.Line, e.Position.Column, e.Reason)
}

var syntaxPlace = regexp.MustCompile(`^hujson: line (\d+), column (\d+): `)

// ParseText reads a text. The error is a *SyntaxError.
func ParseText(file string, b []byte) (*Text, error) {
	t := &Text{File: file, Bytes: bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))}
	if len(b) > MaxSize {
		return t, &SyntaxError{Position{1, 1}, fmt.Sprintf("the file has %d bytes; at most %d are read", len(b), MaxSize)}
	}
	if off, deep := tooDeep(t.Bytes); deep {
		return t, &SyntaxError{t.Position(off), fmt.Sprintf("nested more than %d levels deep", maxDepth)}
	}
	if v, ok := decode(t.Bytes); ok {
		t.Root = v
		return t, nil
	}
	h, err := hujson.Parse(t.Bytes)
	if err != nil {
		return t, syntaxError(err)
	}
	t.Root, err = convert(&h)
	var at *valueError
	if errors.As(err, &at) {
		return t, &SyntaxError{t.Position(at.offset), at.reason}
	}
	return t, nil
}

func syntaxError(err error) error {
	msg := err.Error()
	m := syntaxPlace.FindStringSubmatch(msg)
	if m == nil {
		return &SyntaxError{Position{1, 1}, strings.TrimPrefix(msg, "hujson: ")}
	}
	line, _ := strconv.Atoi(m[1])
	column, _ := strconv.Atoi(m[2])
	reason := strings.TrimPrefix(msg, m[0])
	if strings.Contains(reason, "after object value") || strings.Contains(reason, "after array value") {
		reason += "; a comma is missing before it"
	}
	return &SyntaxError{Position{line, column}, reason}
}

type valueError struct {
	offset int
	reason string
}

func (e *valueError) Error() string { return e.reason }

func convert(h *hujson.Value) (*Value, error) {
	v := &Value{Offset: h.StartOffset}
	switch x := h.Value.(type) {
	case hujson.Literal:
		switch x.Kind() {
		case 'n':
			v.Kind = Null
		case 't', 'f':
			v.Kind, v.Raw = Bool, string(x)
		case '0':
			v.Kind, v.Raw = Number, string(x)
		default:
			v.Kind = String
			if plain(x[1 : len(x)-1]) {
				v.Str = string(x[1 : len(x)-1])
			} else if err := json.Unmarshal(x, &v.Str); err != nil {
				return nil, &valueError{v.Offset, "not a valid string"}
			}
		}
	case *hujson.Array:
		v.Kind = Array
		for i := range x.Elements {
			item, err := convert(&x.Elements[i])
			if err != nil {
				return nil, err
			}
			v.Items = append(v.Items, item)
		}
	case *hujson.Object:
		v.Kind = Object
		for i := range x.Members {
			name, err := convert(&x.Members[i].Name)
			if err != nil {
				return nil, err
			}
			item, err := convert(&x.Members[i].Value)
			if err != nil {
				return nil, err
			}
			v.Members = append(v.Members, Member{name.Str, name.Offset, item})
		}
	}
	return v, nil
}

// plain tells whether a string stands in JSON as it is.
func plain[T ~string | ~[]byte](s T) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// tooDeep scans for nesting beyond maxDepth without building anything.
func tooDeep(b []byte) (int, bool) {
	depth := 0
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case c == '"':
			for i++; i < len(b) && b[i] != '"' && b[i] != '\n'; i++ {
				if b[i] == '\\' {
					i++
				}
			}
		case c == '/' && i+1 < len(b) && b[i+1] == '/':
			for i < len(b) && b[i] != '\n' {
				i++
			}
		case c == '/' && i+1 < len(b) && b[i+1] == '*':
			end := bytes.Index(b[i+2:], []byte("*/"))
			if end < 0 {
				return 0, false
			}
			i += end + 3
		case c == '{' || c == '[':
			if depth++; depth > maxDepth {
				return i, true
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return 0, false
}

// Any gives the value as encoding/json would, numbers as json.Number.
func (v *Value) Any() any {
	if v == nil {
		return nil
	}
	switch v.Kind {
	case Bool:
		return v.Raw == "true"
	case Number:
		return json.Number(v.Raw)
	case String:
		return v.Str
	case Array:
		list := make([]any, len(v.Items))
		for i, item := range v.Items {
			list[i] = item.Any()
		}
		return list
	case Object:
		object := make(map[string]any, len(v.Members))
		for _, m := range v.Members {
			object[m.Name] = m.Value.Any()
		}
		return object
	}
	return nil
}

// Map returns a value in which every string was replaced by what f makes of it. f is
// asked only for strings that hold a variable; a value without any is returned as it is.
func (v *Value) Map(f func(string) string) *Value {
	if v == nil || !v.hasVariable() {
		return v
	}
	c := *v
	if v.Kind == String {
		c.Str = f(v.Str)
	}
	c.Items = make([]*Value, len(v.Items))
	for i, item := range v.Items {
		c.Items[i] = item.Map(f)
	}
	c.Members = make([]Member, len(v.Members))
	for i, m := range v.Members {
		c.Members[i] = Member{m.Name, m.NameOffset, m.Value.Map(f)}
	}
	return &c
}

func (v *Value) hasVariable() bool {
	if strings.Contains(v.Str, "${") {
		return true
	}
	return slices.ContainsFunc(v.Items, (*Value).hasVariable) || slices.ContainsFunc(v.Members, func(m Member) bool { return m.Value.hasVariable() })
}
