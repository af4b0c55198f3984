// Package mask keeps secrets out of logs: as they are, and in the forms in which programs
// usually print them.
package mask

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"slices"
	"strings"
)

// Shown stands where a secret was.
const Shown = "(secret)"

// Shortest is the length below which a text is not masked: it would stand in half of all
// that is printed by chance.
const Shortest = 6

// Mask replaces secrets. A nil Mask replaces nothing.
type Mask struct{ replacer *strings.Replacer }

// New makes a mask of secrets. Those shorter than Shortest are not masked.
func New(secrets ...string) *Mask {
	var forms []string
	for _, s := range secrets {
		forms = append(forms, formsOf(s)...)
		if strings.Contains(s, "\n") { // a log has lines
			for line := range strings.Lines(s) {
				forms = append(forms, formsOf(strings.TrimSpace(line))...)
			}
		}
	}
	// The longest first: a form that is part of another must not leave the rest of it.
	slices.SortFunc(forms, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	var pairs []string
	for _, f := range slices.Compact(forms) {
		pairs = append(pairs, f, Shown)
	}
	if len(pairs) == 0 {
		return nil
	}
	return &Mask{strings.NewReplacer(pairs...)}
}

// formsOf gives a secret as it is, percent-encoded, in JSON, in hex, and in base64 at each
// of the three places that it can have within a longer text.
func formsOf(s string) []string {
	if len(s) < Shortest {
		return nil
	}
	quoted, _ := json.Marshal(s) // a string always encodes
	forms := []string{s, url.QueryEscape(s), url.PathEscape(s), strings.Trim(string(quoted), `"`), hex.EncodeToString([]byte(s)), strings.ToUpper(hex.EncodeToString([]byte(s)))}
	for shift := range 3 {
		padded := append(make([]byte, shift), s...)
		for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			text := encoding.EncodeToString(padded)
			// What the neighbours decide too is left out at both ends.
			from, to := (shift*8+5)/6, len(padded)*8/6
			if to-from >= Shortest {
				forms = append(forms, text[from:to])
			}
		}
	}
	return forms
}

// Line masks a text.
func (m *Mask) Line(text string) string {
	if m == nil {
		return text
	}
	return m.replacer.Replace(text)
}
