// Package visible prints text that somebody else wrote to a person's terminal. What a terminal would obey (moving
// the cursor, its title, the clipboard, answers that it types itself) is made visible instead. Colours and styles are
// dropped: a style can hide text as well.
package visible

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// style is a sequence that only changes how text looks (ECMA-48, SGR).
var style = regexp.MustCompile(`^\x1b\[[0-9;:]{0,64}m`)

// unfinished is what may become such a sequence when more comes.
var unfinished = regexp.MustCompile(`^\x1b(\[[0-9;:]{0,64})?$`)

// Text makes what steers a terminal visible. Line ends and tabs stay.
func Text(s string) string {
	var b strings.Builder
	write(&b, s, true)
	return b.String()
}

// Line is a text as one line of at most so many characters: what a terminal would obey, and what is no
// character to print, becomes a space.
func Line(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, s)
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return s
}

// write writes what is visible of s, and gives what may be the beginning of more; last
// tells that nothing more comes.
func write(b *strings.Builder, s string, last bool) (rest string) {
	for len(s) > 0 {
		if s[0] == 0x1b {
			if found := style.FindString(s); found != "" {
				s = s[len(found):]
				continue
			}
			if !last && unfinished.MatchString(s) {
				return s
			}
		}
		if s[0] == '\r' {
			if !last && len(s) == 1 {
				return s
			}
			if strings.HasPrefix(s, "\r\n") {
				b.WriteString("\r\n")
				s = s[2:]
				continue
			}
		}
		if !last && !utf8.FullRuneInString(s) {
			return s
		}
		r, n := utf8.DecodeRuneInString(s)
		if r == utf8.RuneError && n == 1 {
			fmt.Fprintf(b, `\x%02x`, s[0])
		} else {
			b.WriteString(shown(r))
		}
		s = s[n:]
	}
	return ""
}

// shown is a character as it is shown.
func shown(r rune) string {
	switch {
	case r == '\n' || r == '\t':
		return string(r)
	case r < 0x20:
		return string(0x2400 + r) // the pictures that Unicode has for them
	case r == 0x7f:
		return "\u2421"
	case steers(r):
		return fmt.Sprintf(`\u{%x}`, r)
	}
	return string(r)
}

// steers tells of characters that control a terminal, or the order in which text is read.
func steers(r rune) bool {
	return r >= 0x80 && r <= 0x9f || r == 0x61c || r == 0x200b || r >= 0x200e && r <= 0x200f || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069 || r == 0xfeff || r >= 0xfff9 && r <= 0xfffb || r >= 0xe0000 && r <= 0xe007f
}

// Writer makes what is written through it visible.
type Writer struct {
	to   io.Writer
	rest string
}

// NewWriter makes a writer. It is used by one goroutine at a time.
func NewWriter(to io.Writer) *Writer { return &Writer{to: to} }

// Unwrap is where it writes to, for what is the person's own.
func (w *Writer) Unwrap() io.Writer { return w.to }

// Write writes what is visible of p; a sequence that may go on waits for its end.
func (w *Writer) Write(p []byte) (int, error) {
	var b strings.Builder
	w.rest = write(&b, w.rest+string(p), false)
	if b.Len() == 0 {
		return len(p), nil
	}
	if _, err := io.WriteString(w.to, b.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Flush writes what waited.
func (w *Writer) Flush() error {
	var b strings.Builder
	write(&b, w.rest, true)
	w.rest = ""
	_, err := io.WriteString(w.to, b.String())
	return err
}

// JSON escapes in a JSON text the characters that JSON allows as they are and that steer a
// terminal: what it says stays the same.
func JSON(text string) string {
	if strings.IndexFunc(text, steers) < 0 && !strings.Contains(text, "\x7f") {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case r == 0x7f || steers(r) && r <= 0xffff:
			fmt.Fprintf(&b, `\u%04x`, r)
		case steers(r):
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}
