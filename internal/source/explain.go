package source

import (
	"errors"
	"fmt"
	"os/exec"
	"strings"

	"domicile/internal/egress"
	"domicile/internal/fault"
	"domicile/internal/judge"
)

// gitError is git's own end, with what it said.
type gitError struct {
	said string
	err  error
}

func (e *gitError) Error() string { return strings.TrimSpace(e.said + " (" + e.err.Error() + ")") }
func (e *gitError) Unwrap() error { return e.err }

// explain turns what git says into what a person can act on.
func explain(err error, a Address) error {
	var g *gitError
	if !errors.As(err, &g) {
		return err
	}
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(g.said, p) {
				return true
			}
		}
		return false
	}
	said := errors.New(lastLine(g.said))
	unasked := fmt.Sprint(egress.StatusUnasked)
	switch {
	case has("returned error: "+unasked, "HTTP code "+unasked, "status "+unasked):
		return judge.Unasked("an address that " + a.String() + " refers to")
	case errors.Is(err, exec.ErrNotFound):
		return fault.Wrap(err, "no-git", "install git on the service's host", "the service's host has no git")
	case has("could not read Username", "Authentication failed", "Permission denied", "terminal prompts disabled", "HTTP 401", "HTTP 403", "returned error: 403"):
		return fault.Wrap(said, "source-needs-credentials", "give yours: domicile githosts add "+a.Host()+"; or use an address that needs none", "the git host does not give out %s without credentials", a)
	case has("Could not resolve host", "Name or service not known", "Temporary failure in name resolution"):
		return fault.Transient(said, "git-host-unknown", "correct the host in the address", "the git host of %s is not known by that name", a)
	case has("not valid: is this a git repository", "not found", "does not appear to be a git repository", "does not exist", "returned error: 404"):
		return fault.Wrap(said, "not-a-repository", "correct the address", "%s is not a git repository", a)
	case has("Connection refused", "Failed to connect", "Couldn't connect", "timed out", "Connection reset", "unable to access", "returned error: 5", "early EOF", "remote end hung up", "Could not read from remote"):
		return fault.Transient(said, "git-host-down", "try again when the git host answers", "the git host of %s does not answer properly", a)
	case has("No space left on device"):
		return fault.Wrap(said, "disk-full", "free space in the service's data folder", "the service's disk is full (fetching %s)", a)
	}
	return fault.Wrap(said, "git-failed", "", "git could not fetch %s", a)
}

// explainHost says of a git host what is wrong with its name or address.
func explainHost(err error, a Address) error {
	if fault.Code(err) == "host-unknown" {
		return fault.Transient(errors.Unwrap(err), "git-host-unknown", "correct the host in the address", "the git host of %s is not known by that name", a)
	}
	return err
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}
