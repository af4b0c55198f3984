// Package source brings a workspace's files to the service's host: from a git address by
// way of a bare mirror that all workspaces of a repository share, or from a folder.
package source

import (
	"net"
	"net/url"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"domicile/internal/fault"
)

// Address is where a workspace's files come from.
type Address struct {
	Folder string // absolute; empty: git
	Git    string
}

var (
	program  = regexp.MustCompile(`^[A-Za-z0-9+.-]*::`) // git runs git-remote-NAME for NAME::…
	scpLike  = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._-]*@[A-Za-z0-9_][A-Za-z0-9.-]*:[^:]`)
	hostForm = regexp.MustCompile(`^([A-Za-z0-9_][A-Za-z0-9._-]*|\[[0-9A-Fa-f:.]+\])(:[0-9]{1,5})?$`)
	notInRef = regexp.MustCompile(`[\x00-\x20\x7f~^:?*\[\\]|\.\.|@\{`)
)

// Parse reads an address. What git would take for an option, a local file or a program is
// refused: an address comes from a person, and git runs on the service's host.
func Parse(address string) (Address, error) {
	switch {
	case address == "":
		return Address{}, refuse(address, "it is empty")
	case strings.HasPrefix(address, "-"):
		return Address{}, refuse(address, "it begins with a hyphen")
	case strings.ContainsAny(address, "\x00\n\r"):
		return Address{}, refuse(address, "it contains a line break")
	case filepath.IsAbs(address):
		return Address{Folder: filepath.Clean(address)}, nil
	case scpLike.MatchString(address):
		return Address{Git: address}, nil
	case program.MatchString(address):
		return Address{}, refuse(address, "it names a program of git's (…::…)")
	}
	u, err := url.Parse(address)
	if err != nil {
		return Address{}, refuse(address, "it is no address")
	}
	switch u.Scheme {
	case "http", "https", "ssh", "git":
		if !hostForm.MatchString(u.Host) {
			return Address{}, refuse(address, "it names no host")
		}
		if _, has := u.User.Password(); has {
			return Address{}, refuse(u.Redacted(), "it contains a password, which would end up in the workspace and in logs")
		}
		return Address{Git: address}, nil
	case "":
		return Address{}, refuse(address, "it is neither a git address nor an absolute folder")
	}
	return Address{}, refuse(address, "addresses that begin with "+u.Scheme+": are not taken")
}

func refuse(address, why string) error {
	return fault.New("bad-source", "give https://…, ssh://…, git://…, user@host:path, or an absolute folder on the service's host",
		"the source %q cannot be used: %s", address, why)
}

// CheckRef refuses what git would not take as a branch, tag or commit.
func CheckRef(ref string) error {
	if strings.HasPrefix(ref, "-") || notInRef.MatchString(ref) || strings.HasSuffix(ref, ".lock") {
		return fault.New("bad-ref", "give a branch, a tag or a commit", "%q is no branch, tag or commit", ref)
	}
	return nil
}

// Name suggests a workspace's name: the last part of the address.
func (a Address) Name() string {
	last := a.Folder
	if last == "" {
		last = strings.TrimSuffix(strings.TrimRight(a.Git, "/"), ".git")
		if i := strings.LastIndexAny(last, "/:"); i >= 0 {
			last = last[i+1:]
		}
	}
	return path.Base(last)
}

// String is the address as it was given.
func (a Address) String() string { return a.Folder + a.Git }

// dialled is the host and port that git connects to.
func (a Address) dialled() string {
	host := a.Host()
	if _, _, err := net.SplitHostPort(host); err == nil {
		return host
	}
	port := "22"
	if u, err := url.Parse(a.Git); err == nil {
		switch u.Scheme {
		case "http":
			port = "80"
		case "https":
			port = "443"
		case "git":
			port = "9418"
		}
	}
	return net.JoinHostPort(strings.Trim(host, "[]"), port)
}

// Host is the git host's name, with its port where one is given; empty for a folder.
func (a Address) Host() string {
	if scpLike.MatchString(a.Git) {
		host, _, _ := strings.Cut(a.Git[strings.IndexByte(a.Git, '@')+1:], ":")
		return host
	}
	u, err := url.Parse(a.Git)
	if err != nil {
		return ""
	}
	return u.Host
}
