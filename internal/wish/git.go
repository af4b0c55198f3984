package wish

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"domicile/internal/fault"
)

// ReadGit reads what git asks a credential helper: lines of NAME=VALUE up to an empty one
// (git-credential(1)). A wish of kind Git comes out; false: git asks for something that is not given
// here, such as a sign-in without TLS.
func ReadGit(r io.Reader) (Wish, bool, error) {
	w, protocol := Wish{Kind: Git}, ""
	lines := bufio.NewScanner(io.LimitReader(r, 64<<10))
	for lines.Scan() && lines.Text() != "" {
		name, value, _ := strings.Cut(lines.Text(), "=")
		switch name {
		case "protocol":
			protocol = value
		case "host":
			w.Host = value
		case "path":
			w.Path = value
		case "username":
			w.User = value
		}
	}
	if err := lines.Err(); err != nil {
		return w, false, fmt.Errorf("read what git asks: %w", err)
	}
	return w, protocol == "https" && w.Host != "", nil
}

// GitAsks is the wish as git asks a helper.
func (w Wish) GitAsks() string {
	text := "protocol=https\nhost=" + w.Host + "\n"
	if w.Path != "" {
		text += "path=" + w.Path + "\n"
	}
	if w.User != "" {
		text += "username=" + w.User + "\n"
	}
	return text + "\n"
}

// ReadSignIn reads what git's helpers answer.
func ReadSignIn(r io.Reader) (user, password string, err error) {
	lines := bufio.NewScanner(io.LimitReader(r, 64<<10))
	for lines.Scan() {
		name, value, _ := strings.Cut(lines.Text(), "=")
		switch name {
		case "username":
			user = value
		case "password":
			password = value
		}
	}
	if err := lines.Err(); err != nil {
		return "", "", fmt.Errorf("read what git's helper says: %w", err)
	}
	if password == "" {
		return "", "", fault.New("no-sign-in", "sign in there once at your own machine, with git", "git at the person's machine knows no sign-in there")
	}
	return user, password, nil
}

// GitHears is a sign-in as a helper tells git.
func (w Word) GitHears() string {
	if strings.ContainsAny(w.User+w.Password, "\n\x00") {
		return ""
	}
	return "username=" + w.User + "\npassword=" + w.Password + "\n"
}
