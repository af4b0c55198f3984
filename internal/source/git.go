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
	"slices"
	"strings"
	"syscall"
	"time"

	"domicile/internal/egress"
	"domicile/internal/fault"

	"al.essio.dev/pkg/shellescape"
	"github.com/gofrs/flock"
)

// Fetcher fetches sources into a folder of the service's host.
type Fetcher struct {
	// Folder holds mirrors and what was checked out.
	Folder string
	// Allowed are the folders of the host that may be used as sources, with all below them.
	Allowed []string
	// Gate is the way out to git hosts; nil: none is judged.
	Gate *egress.Gate
	// Dial is a program that joins its standard input and output to the host and port that it
	// is given, through the gate: what git reaches without HTTP. Empty: git does so itself.
	Dial string

	tips together
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

// Want says what to fetch.
type Want struct {
	Address Address
	Ref     string // branch, tag or commit; empty: the repository's own branch
	// Key names a checkout of one's own, which may be written to; an earlier one of the same
	// key is replaced. Without a key all who want the same commit share one, which nobody may
	// write to.
	Key string
	// Came is when whoever wants it asked for it, by this process's clock: what the git host
	// was asked after that is new enough. The zero time is now.
	Came time.Time
	// Login signs in to the git host; nil: nobody does.
	Login *Login
	// Say is told how it goes; nil: nobody is.
	Say func(string)
}

// fetching is one of them.
type fetching struct {
	*Fetcher
	Want
	env []string // more of git's environment: how it signs in
}

// Fetch brings the source to the host.
func (f *Fetcher) Fetch(ctx context.Context, w Want) (Checkout, error) {
	if w.Address.Folder != "" {
		return f.folder(w.Address)
	}
	if err := CheckRef(w.Ref); err != nil {
		return Checkout{}, err
	}
	x, done, err := f.begin(ctx, w)
	if err != nil {
		return Checkout{}, err
	}
	defer done()
	tip, err := f.tip(ctx, w)
	if err != nil {
		return Checkout{}, err
	}
	x.Say(fmt.Sprintf("%s at %.12s", tip.said(), tip.commit))
	c := Checkout{Folder: f.Own(w.Key, w.Address.Name()), Name: w.Address.Name(), Commit: tip.commit, Branch: tip.branch}
	if w.Key == "" {
		c.Folder, err = x.shared(ctx, tip)
		return c, err
	}
	if err := f.Forget(w.Key); err != nil {
		return Checkout{}, fmt.Errorf("clear the earlier checkout: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(c.Folder), 0o755); err != nil {
		return Checkout{}, fmt.Errorf("make the folder of a checkout: %w", err)
	}
	return c, x.checkOut(ctx, tip, c.Folder)
}

// checkOut makes a checkout in a folder that is not there.
func (f *fetching) checkOut(ctx context.Context, t tip, to string) error {
	mirror, err := f.mirror(ctx, &t)
	if err != nil {
		return err
	}
	if err := f.clone(ctx, mirror, to, t); err != nil {
		return err
	}
	if err := f.submodules(ctx, to); err != nil {
		return err
	}
	return f.large(ctx, mirror, to)
}

// Tip asks the git host which commit a ref stands for now. Nothing is fetched.
func (f *Fetcher) Tip(ctx context.Context, w Want) (commit string, err error) {
	t, err := f.tip(ctx, w)
	return t.commit, err
}

func (f *Fetcher) tip(ctx context.Context, w Want) (tip, error) {
	return f.tips.ask(ctx, w.identity(), w.Came, func(ctx context.Context) (tip, error) {
		x, done, err := f.begin(ctx, w) // of its own: who waits may leave before it is answered
		if err != nil {
			return tip{}, err
		}
		defer done()
		return x.find(ctx)
	})
}

func (f *Fetcher) begin(ctx context.Context, w Want) (*fetching, func(), error) {
	if w.Say == nil {
		w.Say = func(string) {}
	}
	if f.Gate != nil {
		if err := f.Gate.Check(ctx, w.Address.dialled()); err != nil {
			return nil, nil, explainHost(err, w.Address)
		}
	}
	env, done, err := w.Login.open(f, w.Address)
	return &fetching{f, w, env}, done, err
}

func (f *Fetcher) folder(a Address) (Checkout, error) {
	real, err := filepath.EvalSymlinks(a.Folder)
	if err != nil || !f.Allows(real) {
		// The same words whether it is there or not: who may not use it learns nothing of it.
		return Checkout{}, fault.New("folder-not-allowed", "an administrator may allow it: domicile serve -source-folders",
			"the folder %s of the service's host is not among those that may be used as sources", a.Folder)
	}
	if info, err := os.Stat(real); err != nil || !info.IsDir() {
		return Checkout{}, fault.New("bad-source", "", "%s is no folder", a.Folder)
	}
	return Checkout{Folder: real, Name: a.Name(), Keep: true}, nil
}

// Allows tells whether a folder, without links in its path, may be used as a source.
func (f *Fetcher) Allows(real string) bool {
	return slices.ContainsFunc(f.Allowed, func(allowed string) bool {
		base, err := filepath.EvalSymlinks(allowed)
		return err == nil && (real == base || strings.HasPrefix(real, base+string(filepath.Separator)))
	})
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
func (f *fetching) find(ctx context.Context) (tip, error) {
	a, ref := f.Address, f.Ref
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
func (f *fetching) mirror(ctx context.Context, t *tip) (string, error) {
	a, say := f.Address, f.Say
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
		return "", fault.New("ref-not-found", "give a commit that a branch or tag of the repository reaches", "the repository %s has no commit %s", a, f.Ref)
	}
	return folder, nil
}

// template is the folder that a clone begins with: the folders that programs expect to be
// there, without git's dozen of sample hooks, which would go into every workspace.
func (f *Fetcher) template() (string, error) {
	folder := filepath.Join(f.Folder, "template")
	for _, name := range []string{"hooks", "info"} {
		if err := os.MkdirAll(filepath.Join(folder, name), 0o755); err != nil {
			return "", fmt.Errorf("make the folder that clones begin with: %w", err)
		}
	}
	return folder, nil
}

// clone makes a normal clone whose remote is the repository itself, not the mirror.
func (f *fetching) clone(ctx context.Context, mirror, to string, t tip) error {
	a := f.Address
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return fmt.Errorf("make the checkout's folder: %w", err)
	}
	unlock, err := lock(ctx, mirror+".lock")
	if err != nil {
		return err
	}
	defer unlock()
	template, err := f.template()
	if err != nil {
		return err
	}
	if _, err := f.git(ctx, "", "clone", "--quiet", "--no-checkout", "--template="+template, "--", mirror, to); err != nil {
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
func (f *fetching) submodules(ctx context.Context, to string) error {
	if _, err := os.Lstat(filepath.Join(to, ".gitmodules")); err != nil {
		return nil
	}
	f.Say("fetching its submodules")
	if _, err := f.git(ctx, to, "submodule", "--quiet", "update", "--init", "--recursive"); err != nil {
		known := explain(err, f.Address)
		var what *fault.Fault
		if errors.As(known, &what) {
			return &fault.Fault{Code: what.Code, Remedy: "correct .gitmodules, or give the service access to the submodule", Transient: what.Transient, Err: what.Err,
				Message: submoduleLine(to, what) + ": a submodule of " + f.Address.String() + " cannot be fetched"}
		}
		return known
	}
	return nil
}

// submoduleLine is where .gitmodules names the submodule that git speaks of.
func submoduleLine(checkout string, what *fault.Fault) string {
	const file = ".gitmodules"
	root, err := os.OpenRoot(checkout)
	if err != nil {
		return file
	}
	defer root.Close()
	text, err := root.ReadFile(file)
	if err != nil || what.Err == nil {
		return file
	}
	for i, line := range strings.Split(string(text), "\n") {
		key, value, found := strings.Cut(line, "=")
		value = strings.TrimSpace(value)
		if name := strings.TrimSpace(key); found && value != "" && (name == "path" || name == "url") && strings.Contains(what.Err.Error(), value) {
			return fmt.Sprintf("%s:%d", file, i+1)
		}
	}
	return file
}

func (f *fetching) git(ctx context.Context, folder string, args ...string) (string, error) {
	c := exec.CommandContext(ctx, "git", append([]string{"-c", "core.hooksPath=/dev/null", "-c", "protocol.ext.allow=never", "-c", "gc.auto=0", "-c", "advice.detachedHead=false"}, args...)...)
	c.Dir = folder
	c.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + f.Folder, "LC_ALL=C", "GIT_CONFIG_NOSYSTEM=1", "GIT_TERMINAL_PROMPT=0",
		"GIT_ASKPASS=/bin/false", "GIT_ALLOW_PROTOCOL=http:https:ssh:git" + localFor(args), "GIT_LFS_SKIP_SMUDGE=1",
		"GIT_SSH_COMMAND=" + f.ssh("none"),
		"GIT_PROXY_COMMAND=" + f.Dial, "GIT_HTTP_LOW_SPEED_LIMIT=100", "GIT_HTTP_LOW_SPEED_TIME=30"}, f.env...) // of two, the last counts
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	if err := f.Gate.Run(c); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return "", &gitError{said.String(), err}
	}
	return out.String(), nil
}

// ssh is the command by which git reaches hosts over SSH: with a configuration file of ours,
// or none, and no key but the person's own. What the service's user and its host have for
// themselves (keys, agents, known hosts, configuration) is nobody's to use.
func (f *Fetcher) ssh(config string) string {
	known := filepath.Join(f.Folder, "known_hosts")
	agent, dial := "", ""
	if f.Dial != "" {
		dial = " " + shellescape.Quote("-oProxyCommand="+shellescape.Quote(f.Dial)+" %h %p")
	}
	if config == "none" {
		agent = " -oIdentityAgent=none -oPubkeyAuthentication=no"
	}
	return "ssh -F " + shellescape.Quote(config) + agent + " -oIdentityFile=none -oCertificateFile=none -oPKCS11Provider=none -oGSSAPIAuthentication=no -oHostbasedAuthentication=no -oPasswordAuthentication=no -oKbdInteractiveAuthentication=no" +
		dial + " -oUserKnownHostsFile=" + shellescape.Quote(known) + " -oGlobalKnownHostsFile=/dev/null -oPermitLocalCommand=no -oForwardAgent=no -oBatchMode=yes -oStrictHostKeyChecking=accept-new -oConnectTimeout=10"
}

// localFor allows git's own way to clone a folder for our clone of a mirror only.
func localFor(args []string) string {
	if args[0] == "clone" {
		return ":file"
	}
	return ""
}

// lockEvery is how often a lock is tried again that another process has.
const lockEvery = 20 * time.Millisecond

// lock waits for a lock between processes.
func lock(ctx context.Context, path string) (unlock func(), err error) {
	l := flock.New(path, flock.SetPermissions(0o600))
	if _, err := l.TryLockContext(ctx, lockEvery); err != nil {
		return nil, fmt.Errorf("lock the mirror: %w", err)
	}
	return func() { _ = l.Close() }, nil
}
