package visible

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatSteersATerminalIsSeen(t *testing.T) {
	for text, want := range map[string]string{
		"plain\tä 船\n":                          "plain\tä 船\n",
		"\x1b[1;31mred\x1b[0m":                  "red",
		"\x1b[38:2::1:2:3mtrue colour":          "true colour",
		"Sailings\x1b[8m allow?":                "Sailings allow?", // nothing is hidden
		"\x1b\x1b[mx":                           "␛x",
		"\x1b]52;c;ZXZpbA==\x07":                "␛]52;c;ZXZpbA==␇", // the clipboard
		"\x1b]0;title\x1b\\":                    "␛]0;title␛\\",
		"\x1b[2J\x1b[H":                         "␛[2J␛[H",
		"\x1b[6n":                               "␛[6n", // a terminal answers as if it were typed
		"\u009b2J":                              `\u{9b}2J`,
		"gone\rhere":                            "gone␍here",
		"a\r\nb":                                "a\r\nb",
		"a\bb\x7f":                              "a␈b␡",
		"\u202eabc\u2066":                       `\u{202e}abc\u{2066}`,
		"bad \xff\xc3":                          `bad \xff\xc3`,
		"\x1b":                                  "␛",
		"\x1b[" + strings.Repeat("1", 80) + "m": "␛[" + strings.Repeat("1", 80) + "m",
	} {
		assert.Equal(t, want, Text(text))
	}
}

// obeyed finds what a terminal would obey in a text, beside line ends.
var obeyed = regexp.MustCompile("[\x00-\x08\x0b\x0c\x0e-\x1a\x1c-\x1f\x7f\u0080-\u009f\u202a-\u202e\u2066-\u2069]|\r[^\n]|\r$")

func FuzzVisible(f *testing.F) {
	f.Add("\x1b[31mred\x1b]0;x\x07", 3)
	f.Add("\r\n\r\x1b[", 1)
	f.Add("\xe2\x80\xae\x9b", 2)
	f.Fuzz(func(t *testing.T, text string, cut int) {
		whole := Text(text)
		if strings.Contains(whole, "\x1b") || obeyed.MatchString(whole) {
			t.Fatalf("%q is shown as %q", text, whole)
		}
		// In pieces it is the same.
		var b strings.Builder
		w := NewWriter(&b)
		at := 0
		if len(text) > 0 {
			at = ((cut % len(text)) + len(text)) % len(text)
		}
		for _, piece := range []string{text[:at], text[at:]} {
			n, err := w.Write([]byte(piece))
			require.NoError(t, err)
			require.Equal(t, len(piece), n)
		}
		require.NoError(t, w.Flush())
		if b.String() != whole {
			t.Fatalf("%q in pieces is %q, not %q", text, b.String(), whole)
		}
	})
}

func TestALine(t *testing.T) {
	for text, want := range map[string]string{"": "", "plain": "plain", "a\x1b[2J\nb": "a [2J b", "\u2028x": " x", "longer than that": "longer t…"} {
		assert.Equal(t, want, Line(text, 9))
	}
}
