package definition

import (
	"bytes"
	"io"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// decode reads a text that is fine, much faster than with all that is kept for one that is
// not: comments and trailing commas become spaces, so that every value keeps its place,
// and the rest is JSON. ok is false where it is not; the slow way then says why.
func decode(b []byte) (v *Value, ok bool) {
	plainText, ok := blanked(b)
	if !ok || !utf8.Valid(b) {
		return nil, false
	}
	d := jsontext.NewDecoder(bytes.NewReader(plainText), jsontext.AllowDuplicateNames(true))
	r := &reader{d: d, text: plainText}
	if v, ok = r.value(); !ok {
		return nil, false
	}
	_, err := d.ReadToken()
	return v, err == io.EOF
}

// blanked replaces comments and trailing commas by spaces; line ends stay.
func blanked(b []byte) ([]byte, bool) {
	out := bytes.Clone(b)
	comma := -1 // the last comma with nothing but space and comments behind it
	for i := 0; i < len(out); i++ {
		switch c := out[i]; {
		case c == '"':
			comma = -1
			for i++; i < len(out) && out[i] != '"'; i++ {
				if out[i] == '\\' {
					i++
				}
			}
		case c == '/' && i+1 < len(out) && out[i+1] == '/':
			for i < len(out) && out[i] != '\n' {
				out[i] = ' '
				i++
			}
		case c == '/' && i+1 < len(out) && out[i+1] == '*':
			end := bytes.Index(out[i+2:], []byte("*/"))
			if end < 0 {
				return nil, false
			}
			for last := i + end + 4; i < last; i++ {
				if out[i] != '\n' {
					out[i] = ' '
				}
			}
			i--
		case c == ',':
			comma = i
		case c == '}' || c == ']':
			if comma >= 0 {
				// A comma with nothing before it is a fault, which must stay one.
				if before := bytes.TrimRight(out[:comma], " \t\r\n"); len(before) > 0 && !bytes.ContainsRune([]byte("{[,:"), rune(before[len(before)-1])) {
					out[comma] = ' '
				}
			}
			comma = -1
		case c != ' ' && c != '\t' && c != '\r' && c != '\n':
			comma = -1
		}
	}
	return out, true
}

// reader turns tokens into values.
type reader struct {
	d    *jsontext.Decoder
	text []byte
	pool []Value // values are taken from blocks: a large text has tens of thousands
}

func (r *reader) new() *Value {
	if len(r.pool) == 0 {
		r.pool = make([]Value, 1+min(len(r.text)/32, 512))
	}
	v := &r.pool[0]
	r.pool = r.pool[1:]
	return v
}

func (r *reader) value() (*Value, bool) {
	t, err := r.d.ReadToken()
	if err != nil {
		return nil, false
	}
	v := r.new()
	end := int(r.d.InputOffset())
	switch t.Kind() {
	case 'n':
		v.Kind, v.Offset = Null, end-4
	case 't', 'f':
		v.Kind, v.Raw = Bool, t.String()
		v.Offset = end - len(v.Raw)
	case '0':
		v.Kind, v.Raw = Number, t.String()
		v.Offset = end - len(v.Raw)
	case '"':
		v.Kind, v.Str = String, t.String()
		v.Offset = r.stringStart(end)
	case '[':
		v.Kind, v.Offset = Array, end-1
		for r.d.PeekKind() != ']' {
			item, ok := r.value()
			if !ok {
				return nil, false
			}
			v.Items = append(v.Items, item)
		}
		_, err = r.d.ReadToken()
	case '{':
		v.Kind, v.Offset = Object, end-1
		for r.d.PeekKind() != '}' {
			name, ok := r.value()
			if !ok || name.Kind != String {
				return nil, false
			}
			item, ok := r.value()
			if !ok {
				return nil, false
			}
			v.Members = append(v.Members, Member{name.Str, name.Offset, item})
		}
		_, err = r.d.ReadToken()
	}
	return v, err == nil
}

// stringStart finds where the string that ends at an offset begins: at the last quotation
// mark before its end that is not escaped.
func (r *reader) stringStart(end int) int {
	for i := end - 2; i >= 0; i-- {
		if r.text[i] != '"' {
			continue
		}
		escapes := 0
		for j := i - 1; j >= 0 && r.text[j] == '\\'; j-- {
			escapes++
		}
		if escapes%2 == 0 {
			return i
		}
	}
	return 0
}
