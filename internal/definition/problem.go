package definition

import (
	"errors"
	"fmt"
	"sort"
	"strings"
)

// Severity tells how much a problem weighs.
type Severity string

// The severities. Only an error keeps a workspace from being made.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Problem is one thing to know about a definition, with its place.
type Problem struct {
	Severity   Severity `json:"severity"`
	Code       string   `json:"code"` // short, stable, with hyphens
	Message    string   `json:"message"`
	File       string   `json:"file,omitempty"`
	Line       int      `json:"line,omitempty"`   // from 1
	Column     int      `json:"column,omitempty"` // from 1, at the offending token
	Path       string   `json:"path,omitempty"`   // JSON pointer
	Suggestion string   `json:"suggestion,omitempty"`
	Excerpt    string   `json:"excerpt,omitempty"` // the offending line
}

// maxExcerpt bounds an excerpt, in characters: some lines have no end.
const maxExcerpt = 240

func excerpt(line string) string {
	if len(line) > 4*maxExcerpt { // some lines are whole files
		line = line[:4*maxExcerpt]
	}
	line = strings.ReplaceAll(strings.ToValidUTF8(line, "?"), "\t", " ")
	if r := []rune(line); len(r) > maxExcerpt {
		return string(r[:maxExcerpt]) + "…"
	}
	return line
}

// syntaxProblem turns an error of ParseText into a problem.
func syntaxProblem(t *Text, err error) Problem {
	p := Problem{Severity: Error, Code: "syntax", Message: "this is no valid JSON with comments: " + err.Error(), File: t.File, Line: 1, Column: 1}
	var s *SyntaxError
	if errors.As(err, &s) {
		p.Message, p.Line, p.Column = "this is no valid JSON with comments: "+s.Reason, s.Position.Line, s.Position.Column
		p.Excerpt = excerpt(t.Line(p.Line))
	}
	return p
}

// String gives the problem as one line that an editor can jump from.
func (p Problem) String() string {
	var b strings.Builder
	if p.File != "" {
		b.WriteString(p.File)
		if p.Line > 0 {
			fmt.Fprintf(&b, ":%d:%d", p.Line, p.Column)
		}
		b.WriteString(": ")
	}
	fmt.Fprintf(&b, "%s: %s", p.Severity, p.Message)
	return b.String()
}

// problems collects what is found while one file is read.
type problems struct {
	source *Text
	list   []Problem
	full   bool
}

// maxProblems bounds how many are told of one file: nobody reads more, and a hostile file
// could have a problem at each of its bytes.
const maxProblems = 500

func (p *problems) add(s Severity, code string, offset int, path, format string, args ...any) *Problem {
	if len(p.list) >= maxProblems && (s != Error || p.full) {
		p.full = p.full || s == Error
		return &Problem{}
	}
	p.full = len(p.list) >= maxProblems
	at := p.source.Position(offset)
	p.list = append(p.list, Problem{Severity: s, Code: code, Message: fmt.Sprintf(format, args...),
		File: p.source.File, Line: at.Line, Column: at.Column, Path: path, Excerpt: excerpt(p.source.Line(at.Line))})
	return &p.list[len(p.list)-1]
}

func sortProblems(list []Problem) {
	sort.SliceStable(list, func(i, j int) bool {
		a, b := list[i], list[j]
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
}

// pointer joins a JSON pointer (RFC 6901) and one more part.
func pointer(base string, part any) string {
	s, isText := part.(string)
	if !isText {
		s = fmt.Sprint(part)
	}
	if strings.ContainsAny(s, "~/") {
		s = strings.ReplaceAll(strings.ReplaceAll(s, "~", "~0"), "/", "~1")
	}
	return base + "/" + s
}

// Closest returns the word of list that word is most likely a slip for, or "".
func Closest(word string, list []string) string {
	best, bestDistance := "", 1+len(word)/3
	for _, candidate := range list {
		if strings.EqualFold(candidate, word) {
			return candidate
		}
		if d := distance(strings.ToLower(word), strings.ToLower(candidate)); d <= bestDistance && (best == "" || d < bestDistance) {
			best, bestDistance = candidate, d
		}
	}
	return best
}

// distance is the edit distance (insert, delete, replace, each 1).
func distance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		left, diagonal := i, i-1
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			left = min(cost, left+1, row[j]+1)
			row[j] = left
		}
		row[0] = i
	}
	return row[len(b)]
}
