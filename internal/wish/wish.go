// Package wish is what a program in a workspace may ask of the machine its person sits at, through
// the usher there: to open a web address, a file or a folder, to put a text on the clipboard, to show
// a notice, to give a sign-in for git. It has the words that both ends use and what a wish must be like.
//
// Whoever is inside can wish for anything: a wish says what it is for in a form that can be shown and
// judged, and does nothing by itself.
package wish

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"

	"domicile/internal/fault"
	"domicile/internal/visible"
)

// Kind is what is wished for.
type Kind string

// The kinds of wishes.
const (
	Open Kind = "open" // a web address, in the person's browser
	Edit Kind = "edit" // a file or folder, in the person's editor
	Show Kind = "show" // a file or folder, in the person's file manager
	Copy Kind = "copy" // a text, on the person's clipboard
	Tell Kind = "tell" // a notice
	Git  Kind = "git"  // the person's sign-in at a host, for git over HTTPS
)

// Kinds are all that can be wished for.
var Kinds = []Kind{Open, Edit, Show, Copy, Tell, Git}

// Wish is what a program asks for. Which fields count depends on the kind.
type Wish struct {
	Kind    Kind   `json:"kind"`
	Address string `json:"address,omitempty"` // open
	Path    string `json:"path,omitempty"`    // edit and show: absolute; git: of the repository, may be empty
	Text    string `json:"text,omitempty"`    // copy and tell
	Host    string `json:"host,omitempty"`    // git: with a port where it has one
	User    string `json:"user,omitempty"`    // git: may be empty
}

// Word is one answer to a wish. There may be several that only say something; the last one has Done.
type Word struct {
	Say      string `json:"say,omitempty"`
	Done     bool   `json:"done,omitempty"`
	Error    string `json:"error,omitempty"`
	Code     string `json:"code,omitempty"` // of the error
	Remedy   string `json:"remedy,omitempty"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
}

const (
	// LongestText is how long a text for the clipboard may be, in bytes.
	LongestText = 1 << 20
	// LongestNotice is how long a notice may be, in characters.
	LongestNotice = 500
	// LongestAddress is how long a web address may be, in bytes.
	LongestAddress = 8 << 10
	// longestLine bounds a wish as it is sent: a text may take six bytes for one.
	longestLine = 6*LongestText + 64<<10
	longestPath = 4 << 10
)

var (
	// hosts are names and addresses of hosts, with a port or without.
	hosts = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?|\[[0-9A-Fa-f:.]{2,45}\])(:[0-9]{1,5})?$`)
	users = regexp.MustCompile(`^[^\pC\pZ]{0,256}$`)
)

// IsHost tells whether a text is a host's name or address, with a port or without.
func IsHost(text string) bool { return hosts.MatchString(text) }

// Check tells what is wrong with a wish, and makes it one that can be shown.
func (w *Wish) Check() error {
	switch w.Kind {
	case Open:
		u, err := Address(w.Address)
		if err == nil {
			w.Address = u.String() // as the browser is given it, and the person is shown it
		}
		return err
	case Edit, Show:
		return checkPath(w.Path, true)
	case Copy:
		if len(w.Text) > LongestText || !utf8.ValidString(w.Text) {
			return fault.New("bad-wish", "copy less, or bring a file: scp", "a text for the clipboard has at most %d bytes of UTF-8", LongestText)
		}
		return nil
	case Tell:
		w.Text = visible.Line(w.Text, LongestNotice)
		if strings.TrimSpace(w.Text) == "" {
			return fault.New("bad-wish", "say what is to be told", "the notice is empty")
		}
		return nil
	case Git:
		if !IsHost(w.Host) || !users.MatchString(w.User) {
			return fault.New("bad-wish", "use an address as https://HOST/PATH", "%q is no host that git can be signed in at", visible.Line(w.Host, 80))
		}
		return checkPath(w.Path, false)
	}
	return fault.New("bad-wish", "rebuild the workspace, or bring the usher up to date", "the usher knows no wish %q", visible.Line(string(w.Kind), 20))
}

// Address reads a web address that a browser may be given: nothing else has it do more than show a
// page. It is read as browsers read it (WHATWG URL), so that "127.1", "0x7f000001" and full-width digits are the
// address that they mean.
func Address(text string) (*url.URL, error) {
	if len(text) > LongestAddress {
		return nil, fault.New("bad-address", "open a shorter one", "an address has at most %d bytes", LongestAddress)
	}
	u, err := url.Parse(text)
	if err == nil && u.Host != "" {
		err = asBrowsersDo(u)
	}
	switch {
	case strings.Contains(text, "\\"):
		return nil, fault.New("bad-address", "write it with /", "%q has a backslash, which browsers take for a slash", visible.Line(text, 80))
	case err != nil || strings.ContainsFunc(text, func(r rune) bool { return !unicode.IsPrint(r) || r == ' ' }):
		return nil, fault.New("bad-address", "write it as https://HOST/PATH", "%q is no web address", visible.Line(text, 80))
	case u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.Opaque != "":
		return nil, fault.New("bad-address", "only http:// and https:// are opened", "%q is no web address", visible.Line(text, 80))
	case u.User != nil:
		return nil, fault.New("bad-address", "leave it out", "the address of %s has a user's name in it, which hides where it leads", u.Host)
	case strings.HasPrefix(text, "-"):
		return nil, fault.New("bad-address", "write it as https://HOST/PATH", "%q is no web address", visible.Line(text, 80))
	}
	return u, nil
}

func checkPath(p string, absolute bool) error {
	if len(p) > longestPath || !utf8.ValidString(p) || strings.ContainsFunc(p, unicode.IsControl) || absolute && (!path.IsAbs(p) || path.Clean(p) != p) {
		return fault.New("bad-wish", "name a file by a path without control characters", "%q is no path", visible.Line(p, 80))
	}
	return nil
}

// Says is the wish as a person is asked for it, after the workspace's name.
func (w Wish) Says() string {
	const longestShown = LongestAddress // whole: two that begin alike may differ in their last character
	switch w.Kind {
	case Open:
		return "wants to open " + visible.Line(w.Address, longestShown) + " in your browser"
	case Edit:
		return "wants to open " + visible.Line(w.Path, longestShown) + " in your editor"
	case Show:
		return "wants to show " + visible.Line(w.Path, longestShown) + " in your file manager"
	case Copy:
		return fmt.Sprintf("wants to put %d bytes on your clipboard: %q", len(w.Text), visible.Line(w.Text, 60))
	case Tell:
		return "wants to show you notices"
	case Git:
		return "wants your sign-in at " + w.Host + " for git"
	}
	return "wants something that is not known"
}

// Subject is what a decision of the person's counts for beyond workspace and kind: a sign-in is for one
// host.
func (w Wish) Subject() string {
	if w.Kind == Git {
		return strings.ToLower(w.Host)
	}
	return ""
}

// Read reads a wish and checks it.
func Read(r io.Reader) (Wish, error) {
	var w Wish
	line, err := readLine(r)
	if err != nil {
		return w, err
	}
	if err := json.Unmarshal(line, &w); err != nil {
		return w, fault.New("bad-wish", "use the program usher", "the wish cannot be read: %v", err)
	}
	return w, w.Check()
}

// Skip reads past a wish that nobody hears, so that who wishes has sent all of it and hears why.
func Skip(r io.Reader) error {
	line := bufio.NewReader(io.LimitReader(r, longestLine))
	for {
		if _, err := line.ReadSlice('\n'); !errors.Is(err, bufio.ErrBufferFull) {
			return err
		}
	}
}

// Write sends a wish, or a word.
func Write(to io.Writer, what any) error {
	b, err := json.Marshal(what)
	if err != nil {
		return err
	}
	_, err = to.Write(append(b, '\n'))
	return err
}

func readLine(r io.Reader) ([]byte, error) {
	lines := bufio.NewScanner(io.LimitReader(r, longestLine))
	lines.Buffer(make([]byte, 0, 4<<10), longestLine)
	if !lines.Scan() {
		if err := lines.Err(); err != nil {
			return nil, err
		}
		return nil, io.ErrUnexpectedEOF
	}
	return lines.Bytes(), nil
}

// Words calls f for each answer until the last, which it returns.
func Words(r io.Reader, f func(say string)) (Word, error) {
	lines := json.NewDecoder(io.LimitReader(r, longestLine))
	for {
		var w Word
		if err := lines.Decode(&w); err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return w, fmt.Errorf("hear what the usher says: %w", err)
		}
		if w.Done {
			return w, nil
		}
		f(w.Say)
	}
}
