// Package githost is a stand-in for a git host: bare repositories served over HTTP by
// git's own http-backend, and large files by the batch API. What lies below private/ needs a name and a password.
package githost

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// Host is the stand-in.
type Host struct {
	folder  string
	backend http.Handler
	// User and Password open private repositories.
	User, Password string
}

// New makes a host that keeps its repositories below folder.
func New(folder string) (*Host, error) {
	out, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		return nil, fmt.Errorf("find git's programs: %w", err)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	return &Host{folder: folder, User: "skipper", Password: "lantern", backend: &cgi.Handler{
		Path: filepath.Join(strings.TrimSpace(string(out)), "git-http-backend"),
		Env:  []string{"GIT_PROJECT_ROOT=" + folder, "GIT_HTTP_EXPORT_ALL=1", "HOME=" + folder, "GIT_CONFIG_NOSYSTEM=1"},
	}}, nil
}

// ServeHTTP serves the repositories.
func (h *Host) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/private/") {
		if user, password, ok := r.BasicAuth(); !ok || user != h.User || password != h.Password {
			w.Header().Set("WWW-Authenticate", `Basic realm="Skerry"`)
			http.Error(w, "who is there?", http.StatusUnauthorized)
			return
		}
	}
	if h.large(w, r) {
		return
	}
	h.backend.ServeHTTP(w, r)
}

// Put makes a repository of the files, or adds a commit with them to it. The path is
// such as skerry/timetable. Equal files give equal commits.
func (h *Host) Put(ctx context.Context, path string, files fs.FS, replace func(string) string) error {
	work, err := os.MkdirTemp("", "githost-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	bare := filepath.Join(h.folder, path+".git")
	git := func(args ...string) error {
		c := exec.CommandContext(ctx, "git", args...)
		c.Dir = work
		const when = "2026-04-01T08:00:00Z"
		c.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=Skerry", "GIT_AUTHOR_EMAIL=crew@skerry.test",
			"GIT_COMMITTER_NAME=Skerry", "GIT_COMMITTER_EMAIL=crew@skerry.test", "GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when)
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, out)
		}
		return nil
	}
	if _, err := os.Stat(bare); errors.Is(err, fs.ErrNotExist) {
		if err := git("init", "--quiet", "--bare", "--initial-branch=main", bare); err != nil {
			return err
		}
	}
	if err := git("clone", "--quiet", bare, "."); err != nil {
		return err
	}
	if err := copyFiles(files, work, replace); err != nil {
		return err
	}
	if err := git("add", "--all"); err != nil {
		return err
	}
	if git("diff", "--cached", "--quiet") == nil {
		return nil // it has them already
	}
	if err := git("commit", "--quiet", "--message", "Put the files of "+path); err != nil {
		return err
	}
	return git("push", "--quiet", "origin", "HEAD:main")
}

// Path is the folder of a repository on this machine.
func (h *Host) Path(path string) string { return filepath.Join(h.folder, path+".git") }

func copyFiles(files fs.FS, to string, replace func(string) string) error {
	return fs.WalkDir(files, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(to, path)
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		b, err := fs.ReadFile(files, path)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(string(b), "#!") {
			mode = 0o755
		}
		return os.WriteFile(target, []byte(replace(string(b))), mode)
	})
}
