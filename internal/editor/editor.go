// Package editor fills in how a person's editor is opened at a workspace: links, which a browser
// hands to the program that opens their scheme, and commands of the person's own machine. In both
// stand placeholders in braces.
package editor

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/google/shlex"

	"domicile/internal/fault"
)

// Place is what the placeholders stand for.
type Place struct {
	Host      string // of the SSH server
	Port      int
	User      string // whom an SSH client signs in as
	Address   string // what the usher has told ssh, such as timetable.domicile
	Workspace string
	Path      string // inside, from the root on
}

// Placeholders are those that there are, in the order in which they are told.
var Placeholders = []string{"host", "port", "user", "address", "workspace", "path"}

func (p Place) values() map[string]string {
	return map[string]string{"host": p.Host, "port": strconv.Itoa(p.Port), "user": p.User, "address": p.Address, "workspace": p.Workspace, "path": p.Path}
}

var (
	placeholder = regexp.MustCompile(`\{([^{}]*)\}`)
	scheme      = regexp.MustCompile(`^([a-z][a-z0-9+.-]*):`)
)

// here are the schemes that a browser acts upon by itself, in the console's own name or at this
// machine: none of them opens an editor.
var here = []string{"javascript", "data", "vbscript", "file", "blob", "about", "filesystem", "view-source", "http", "https", "ws", "wss"}

// longest is how long a link or a command may be, in bytes.
const longest = 500

// CheckLink tells whether a link can be kept.
func CheckLink(link string) error {
	found := scheme.FindStringSubmatch(link)
	switch {
	case found == nil:
		return fault.New("bad-link", "write it as ssh://{user}@{host}:{port}{path}", "%q has no scheme of an editor", link)
	case slices.Contains(here, found[1]):
		return fault.New("bad-link", "take the scheme that your editor opens", "%s: is no scheme of an editor", found[1])
	case strings.ContainsAny(link, " \t\r\n\"'<>`\\") || len(link) > longest:
		return fault.New("bad-link", "write it without spaces and quotation marks", "%q is no link", link)
	}
	return known(link)
}

// known tells whether all placeholders are.
func known(text string) error {
	for _, m := range placeholder.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(Placeholders, m[1]) {
			return fault.New("bad-placeholder", "use one of {"+strings.Join(Placeholders, "}, {")+"}", "there is no placeholder {%s}", m[1])
		}
	}
	return nil
}

// Link fills in a link. What is filled in is escaped as it must be in one.
func Link(link string, p Place) (string, error) {
	if err := CheckLink(link); err != nil {
		return "", err
	}
	values := p.values()
	return placeholder.ReplaceAllStringFunc(link, func(m string) string {
		name := m[1 : len(m)-1]
		if name != "path" {
			return url.PathEscape(values[name])
		}
		return (&url.URL{Path: values[name]}).EscapedPath()
	}), nil
}

// CheckCommand tells whether a command can be kept.
func CheckCommand(command string) error {
	words, err := shlex.Split(command)
	if err != nil || len(words) == 0 || len(command) > longest || strings.ContainsAny(command, "\x00\n\r") {
		return fault.New("bad-command", "write it as one line, such as: vim scp://{address}/{path}", "%q is no command", command)
	}
	if strings.Contains(words[0], "{") {
		return fault.New("bad-command", "name the program itself first", "a placeholder cannot be the program")
	}
	return known(command)
}

// Command fills in a command, as its words: no shell reads what is filled in.
func Command(command string, p Place) ([]string, error) {
	if err := CheckCommand(command); err != nil {
		return nil, err
	}
	words, err := shlex.Split(command)
	if err != nil {
		return nil, fmt.Errorf("read the command: %w", err)
	}
	values := p.values()
	for i, word := range words {
		words[i] = placeholder.ReplaceAllStringFunc(word, func(m string) string { return values[m[1:len(m)-1]] })
		if i > 0 && strings.HasPrefix(words[i], "-") && !strings.HasPrefix(word, "-") {
			return nil, fault.New("bad-path", "give the path from the root on", "%q would be taken for a flag", words[i])
		}
	}
	return words, nil
}
