package source

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"domicile/internal/fault"
)

// Bundle packs the commits of a checkout that come after one into a file that git takes for
// a repository; done removes it. The error is a *fault.Fault with code own-commits where the
// checkout does not come after it.
func (f *Fetcher) Bundle(ctx context.Context, c Checkout, after string) (file string, done func(), err error) {
	if !commitID.MatchString(after) {
		return "", nil, fault.New("bad-commit", "", "%.60q is no commit", after)
	}
	x := &fetching{Fetcher: f}
	if _, err := x.git(ctx, c.Folder, "merge-base", "--is-ancestor", after, "HEAD"); err != nil {
		var exit *exec.ExitError
		if ctx.Err() != nil || !errors.As(err, &exit) {
			return "", nil, fmt.Errorf("compare two commits: %w", err)
		}
		return "", nil, fault.New("own-commits", "bring the commits together inside, with git rebase or git merge", "the source in the workspace is at %.12s, which the repository's %.12s does not come after", after, c.Commit)
	}
	folder, err := os.MkdirTemp(f.Folder, "bundle-")
	if err != nil {
		return "", nil, fmt.Errorf("make a folder for new commits: %w", err)
	}
	done = func() { os.RemoveAll(folder) }
	file = filepath.Join(folder, "new.bundle")
	if _, err := x.git(ctx, c.Folder, "bundle", "create", "--quiet", file, "HEAD", "^"+after); err != nil {
		done()
		return "", nil, fmt.Errorf("pack new commits: %w", err)
	}
	return file, done, nil
}
