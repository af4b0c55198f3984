package source

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"

	"domicile/internal/fault"
)

// large brings the contents of large files where the repository keeps them apart from its
// history (git LFS). They are kept beside the mirror, so that each is fetched once by who
// signs in as the same person: what lies there is given out unasked.
func (f *fetching) large(ctx context.Context, mirror, to string) error {
	files, err := f.git(ctx, to, "ls-files", "-z", "--", ":(attr:filter=lfs)")
	if err != nil {
		return explain(err, f.Address)
	}
	if files == "" {
		return nil
	}
	if _, err := exec.LookPath("git-lfs"); err != nil {
		return fault.Wrap(err, "no-git-lfs", "install git-lfs on the service's host", "the repository %s keeps large files apart, and the service's host cannot fetch them", f.Address)
	}
	if f.Gate != nil && !f.Gate.Apart() {
		return fault.New("no-large-files", "give the service the right to make network namespaces (docs/trust.md)", "the repository %s keeps large files apart, and the service's host cannot keep what fetches them from its own network", f.Address)
	}
	f.Say(fmt.Sprintf("fetching %d large files", strings.Count(files, "\x00")))
	// Its filters are named for this call alone: how the person's git has them is their own.
	if _, err := f.git(ctx, to, "-c", "lfs.storage="+filepath.Join(mirror, "lfs-"+f.Login.identity()), "-c", "filter.lfs.clean=git-lfs clean -- %f", "-c", "filter.lfs.smudge=git-lfs smudge -- %f",
		"-c", "filter.lfs.process=git-lfs filter-process", "-c", "filter.lfs.required=true", "lfs", "pull"); err != nil {
		return fault.Wrap(explain(err, f.Address), "large-files", "push them (git lfs push --all origin), or correct the address", "the large files of %s cannot be fetched", f.Address)
	}
	return nil
}
