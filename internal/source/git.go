package source

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"

	"domicile/internal/fault"
)

// Fetcher fetches sources into a folder of the service's host.
type Fetcher struct {
	// Folder holds mirrors and what was checked out.
	Folder string
	// Allowed are the folders of the host that may be used as sources, with all below them.
	Allowed []string
}

// Checkout is a source that was fetched.
type Checkout struct {
	Folder string `json:"folder"` // where its files lie
	Name   string `json:"name"`   // the repository's name
	Commit string `json:"commit,omitempty"`
	Branch string `json:"branch,omitempty"`
	Keep   bool   `json:"keep,omitempty"` // the folder is not ours to remove
}

var commitID = regexp.MustCompile(`^[0-9a-f]{40}$|^[0-9a-f]{64}$`)

// Fetch brings the source to the host. key names the checkout; an earlier one of the same
// key is replaced.
func (f *Fetcher) Fetch(ctx context.Context, a Address, ref, key string, say func(string)) (Checkout, error) {
	if a.Folder != "" {
		return f.folder(a)
	}
	if err := CheckRef(ref); err != nil {
		return Checkout{}, err
	}
	tip, err := f.find(ctx, a, ref)
	if err != nil {
		return Checkout{}, err
	}
	mirror, err := f.mirror(ctx, a, &tip, ref, say)
	if err != nil {
		return Checkout{}, err
	}
	to := f.path(key)
	if err := os.RemoveAll(to); err != nil {
		return Checkout{}, fmt.Errorf("clear the earlier checkout: %w", err)
	}
	if err := f.clone(ctx, a, mirror, to, tip); err != nil {
		return Checkout{}, err
	}
	if err := f.submodules(ctx, a, to, say); err != nil {
		return Checkout{}, err
	}
	say(fmt.Sprintf("%s at %.12s", tip.said(), tip.commit))
	return Checkout{Folder: to, Name: a.Name(), Commit: tip.commit, Branch: tip.branch}, nil
}

// Forget removes the checkout of a key.
func (f *Fetcher) Forget(key string) error { return os.RemoveAll(f.path(key)) }

func (f *Fetcher) path(key string) string { return filepath.Join(f.Folder, "checkouts", key) }

func (f *Fetcher) folder(a Address) (Checkout, error) {
	real, err := filepath.EvalSymlinks(a.Folder)
	if err == nil {
		for _, allowed := range f.Allowed {
			if base, err := filepath.EvalSymlinks(allowed); err == nil && (real == base || strings.HasPrefix(real, base+string(filepath.Separator))) {
				if info, err := os.Stat(real); err != nil || !info.IsDir() {
					return Checkout{}, fault.New("bad-source", "", "%s is no folder", a.Folder)
				}
				return Checkout{Folder: real, Name: a.Name(), Keep: true}, nil
			}
		}
	}
	// The same words whether it is there or not: who may not use it learns nothing of it.
	return Checkout{}, fault.New("folder-not-allowed", "an administrator may allow it: domicile serve -source-folders",
		"the folder %s of the service's host is not among those that may be used as sources", a.Folder)
}

// tip is what a ref stands for.
type tip struct{ ref, branch, commit string }

func (t tip) said() string {
	if t.branch != "" {
		return "branch " + t.branch
	}
	if t.ref != "" {
		return t.ref
	}
	return "commit"
}

// find asks the git host what the ref stands for. A commit's id is taken as it is.
func (f *Fetcher) find(ctx context.Context, a Address, ref string) (tip, error) {
	args := []string{"ls-remote", "--symref", "--", a.Git}
	if ref == "" {
		args = append(args, "HEAD")
	} else {
		args = append(args, "refs/heads/"+strings.TrimPrefix(ref, "refs/heads/"), "refs/tags/"+strings.TrimPrefix(ref, "refs/tags/"), "refs/tags/"+ref+"^{}")
	}
	out, err := f.git(ctx, "", args...)
	if err != nil {
		return tip{}, explain(err, a)
	}
	t := tip{ref: ref}
	for line := range strings.Lines(out) {
		value, name, _ := strings.Cut(strings.TrimSpace(line), "\t")
		switch {
		case strings.HasPrefix(value, "ref: refs/heads/") && name == "HEAD":
			t.branch = strings.TrimPrefix(value, "ref: refs/heads/")
		case strings.HasPrefix(name, "refs/heads/"):
			t.branch, t.commit = strings.TrimPrefix(name, "refs/heads/"), value
		case t.branch == "" || name == "HEAD":
			t.commit = value // a tag; the peeled one comes last
		}
	}
	if t.commit != "" {
		return t, nil
	}
	if commitID.MatchString(ref) {
		t.commit = ref
		return t, nil
	}
	if ref == "" {
		return t, fault.New("empty-repository", "push a commit with a definition first", "the repository %s has no commit", a)
	}
	return t, fault.New("ref-not-found", "give a branch, a tag or a whole commit id that the repository has", "the repository %s has no branch, tag or commit %q", a, ref)
}

// mirror brings the repository's bare mirror up to date, one process at a time. Nothing is
// fetched when it has the commit already.
func (f *Fetcher) mirror(ctx context.Context, a Address, t *tip, ref string, say func(string)) (string, error) {
	sum := sha256.Sum256([]byte(a.Git))
	folder := filepath.Join(f.Folder, "mirrors", hex.EncodeToString(sum[:10])+".git")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", fmt.Errorf("make the mirror's folder: %w", err)
	}
	unlock, err := lock(ctx, folder+".lock")
	if err != nil {
		return "", err
	}
	defer unlock()
	if _, err := os.Stat(filepath.Join(folder, "HEAD")); err != nil {
		if _, err := f.git(ctx, "", "init", "--quiet", "--bare", folder); err != nil {
			return "", explain(err, a)
		}
	}
	if _, err := f.git(ctx, folder, "cat-file", "-e", t.commit+"^{commit}"); err == nil {
		say("the mirror has it already")
		if t.branch != "" {
			if _, err := f.git(ctx, folder, "update-ref", "refs/heads/"+t.branch, t.commit); err != nil {
				return "", explain(err, a)
			}
		}
		return folder, nil
	}
	say("fetching " + a.Git)
	if _, err := f.git(ctx, folder, "fetch", "--quiet", "--prune", "--force", "--", a.Git, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*"); err != nil {
		return "", explain(err, a)
	}
	if _, err := f.git(ctx, folder, "cat-file", "-e", t.commit+"^{commit}"); err != nil {
		return "", fault.New("ref-not-found", "give a commit that a branch or tag of the repository reaches", "the repository %s has no commit %s", a, ref)
	}
	return folder, nil
}

// clone makes a normal clone whose remote is the repository itself, not the mirror.
func (f *Fetcher) clone(ctx context.Context, a Address, mirror, to string, t tip) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return fmt.Errorf("make the checkout's folder: %w", err)
	}
	unlock, err := lock(ctx, mirror+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	if _, err := f.git(ctx, "", "clone", "--quiet", "--no-checkout", "--", mirror, to); err != nil {
		return explain(err, a)
	}
	if _, err := f.git(ctx, to, "config", "remote.origin.url", a.Git); err != nil {
		return explain(err, a)
	}
	checkout := []string{"checkout", "--quiet", "--detach", t.commit}
	if t.branch != "" {
		checkout = []string{"checkout", "--quiet", "-B", t.branch, "--track", "origin/" + t.branch}
	}
	if _, err := f.git(ctx, to, checkout...); err != nil {
		return explain(err, a)
	}
	return nil
}

// submodules fetches the repositories that the checkout refers to, and theirs in turn.
// Addresses relative to the repository are git's to resolve; those of this host's own
// files are refused as they are for the repository itself.
func (f *Fetcher) submodules(ctx context.Context, a Address, to string, say func(string)) error {
	if _, err := os.Lstat(filepath.Join(to, ".gitmodules")); err != nil {
		return nil
	}
	say("fetching its submodules")
	if _, err := f.git(ctx, to, "submodule", "--quiet", "update", "--init", "--recursive"); err != nil {
		known := explain(err, a)
		var what *fault.Fault
		if errors.As(known, &what) {
			return &fault.Fault{Code: what.Code, Remedy: "correct .gitmodules, or give the service access to the submodule", Transient: what.Transient, Err: what.Err,
				Message: "a submodule of " + a.String() + " cannot be fetched"}
		}
		return known
	}
	return nil
}

// gitError is git's own end, with what it said.
type gitError struct {
	said string
	err  error
}

func (e *gitError) Error() string { return strings.TrimSpace(e.said + " (" + e.err.Error() + ")") }
func (e *gitError) Unwrap() error { return e.err }

func (f *Fetcher) git(ctx context.Context, folder string, args ...string) (string, error) {
	c := exec.CommandContext(ctx, "git", append([]string{"-c", "core.hooksPath=/dev/null", "-c", "protocol.ext.allow=never", "-c", "gc.auto=0", "-c", "advice.detachedHead=false"}, args...)...)
	c.Dir = folder
	c.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + f.Folder, "LC_ALL=C", "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0",
		"GIT_ASKPASS=/bin/false", "GIT_ALLOW_PROTOCOL=http:https:ssh:git" + localFor(args), "GIT_LFS_SKIP_SMUDGE=1",
		"GIT_SSH_COMMAND=ssh -oBatchMode=yes -oStrictHostKeyChecking=accept-new -oConnectTimeout=10",
		"GIT_HTTP_LOW_SPEED_LIMIT=100", "GIT_HTTP_LOW_SPEED_TIME=30"}
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	if err := c.Run(); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", &gitError{said.String(), err}
	}
	return out.String(), nil
}

// localFor allows git's own way to clone a folder for our clone of a mirror only.
func localFor(args []string) string {
	if args[0] == "clone" {
		return ":file"
	}
	return ""
}

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
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return fault.Wrap(err, "no-git", "install git on the service's host", "the service's host has no git")
	case has("could not read Username", "Authentication failed", "Permission denied", "terminal prompts disabled", "HTTP 401", "HTTP 403", "returned error: 403"):
		return fault.Wrap(said, "source-needs-credentials", "give the service access to the repository, or use an address that needs none", "the git host does not give out %s without credentials", a)
	case has("Could not resolve host", "Name or service not known", "Temporary failure in name resolution"):
		return fault.Passing(said, "git-host-unknown", "correct the host in the address", "the git host of %s is not known by that name", a)
	case has("not valid: is this a git repository", "not found", "does not appear to be a git repository", "does not exist", "returned error: 404"):
		return fault.Wrap(said, "not-a-repository", "correct the address", "%s is not a git repository", a)
	case has("Connection refused", "Failed to connect", "Couldn't connect", "timed out", "Connection reset", "unable to access", "returned error: 5", "early EOF", "remote end hung up", "Could not read from remote"):
		return fault.Passing(said, "git-host-down", "try again when the git host answers", "the git host of %s does not answer properly", a)
	case has("No space left on device"):
		return fault.Wrap(said, "disk-full", "free space in the service's data folder", "the service's disk is full (fetching %s)", a)
	}
	return fault.Wrap(said, "git-failed", "", "git could not fetch %s", a)
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}

// lock waits for a lock between processes.
func lock(ctx context.Context, path string) (func(), error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock the mirror: %w", err)
	}
	got := make(chan error, 1)
	go func() { got <- syscall.Flock(int(file.Fd()), syscall.LOCK_EX) }()
	select {
	case err = <-got:
	case <-ctx.Done():
		go func() { <-got; file.Close() }()
		return nil, ctx.Err()
	}
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("lock the mirror: %w", err)
	}
	return func() { file.Close() }, nil
}
