// Package example makes a small repository with a definition that needs no network: its image is made of
// programs that every Debian has, read from the machine that the service runs on. Whoever tries the service
// has a first workspace before any registry or git host is reached.
package example

import (
	"bufio"
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"domicile/internal/fault"
)

//go:embed all:repository
var repository embed.FS

// programs are the packages whose files the image has; libraries come with the programs that want them.
var programs = []string{"bash", "coreutils", "dash", "diffutils", "findutils", "grep", "gzip", "hostname", "mawk", "ncurses-base", "perl-base", "procps", "sed", "tar", "util-linux"}

// needed are those without which it is no place to work.
var needed = []string{"bash", "coreutils", "dash", "perl-base"}

// left are folders that nobody needs in it.
var left = []string{"/usr/share/doc", "/usr/share/man", "/usr/share/info", "/usr/share/lintian", "/usr/share/bash-completion", "/usr/share/locale", "/usr/share/bug", "/etc", "/var", "/lib/systemd", "/usr/lib/systemd"}

// files are written into it as they stand here.
var files = map[string]string{
	"etc/passwd": "root:x:0:0:root:/root:/bin/bash\ncrew:x:1000:1000:crew:/home/crew:/bin/bash\nnobody:x:65534:65534:nobody:/:/usr/sbin/nologin\n",
	"etc/group":  "root:x:0:\ntty:x:5:\ncrew:x:1000:\nnogroup:x:65534:\n",
}

// Work begins the name of the folder beside it in which it is made; one that is old was left by a service
// that was killed.
const Work = ".example-"

// Make makes the repository in a folder, whole or not at all; one that is there stays. root is the
// machine's file system ("/"). The fault no-example tells that this machine has not what it is made of.
func Make(ctx context.Context, root, folder string) error {
	if _, err := os.Stat(folder); err == nil {
		return nil
	}
	m := machine{root: root}
	if err := m.look(); err != nil {
		return err
	}
	making, err := os.MkdirTemp(filepath.Dir(folder), Work)
	if err != nil {
		return fmt.Errorf("make the example: %w", err)
	}
	defer os.RemoveAll(making)
	if err := fill(ctx, m, making); err != nil {
		return fmt.Errorf("make the example: %w", err)
	}
	if err := os.Rename(making, folder); err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("make the example: %w", err)
	}
	return nil
}

func fill(ctx context.Context, m machine, folder string) error {
	text, err := fs.Sub(repository, "repository")
	if err != nil {
		return err
	}
	if err := os.CopyFS(folder, text); err != nil {
		return err
	}
	if err := os.Chmod(filepath.Join(folder, "board"), 0o755); err != nil {
		return err
	}
	if err := m.write(ctx, filepath.Join(folder, ".devcontainer", "machine")); err != nil {
		return err
	}
	return filepath.WalkDir(folder, opened)
}

// opened lets everybody read a file, and run it if it is run: the service may write its files for itself
// alone, and in the image they are others', too.
func opened(file string, d fs.DirEntry, err error) error {
	if err != nil || d.Type() == fs.ModeSymlink {
		return err
	}
	info, err := d.Info()
	if err != nil {
		return err
	}
	mode := info.Mode().Perm() | 0o644
	if d.IsDir() || mode&0o100 != 0 {
		mode |= 0o755
	}
	return os.Chmod(file, mode)
}

// look tells whether the machine has what the image is made of.
func (m machine) look() error {
	for _, name := range needed {
		if len(m.list(name)) == 0 {
			return fault.New("no-example", "begin with the address of a repository", "the example is made of a Debian's own programs, and this machine has not the package %s", name)
		}
	}
	return nil
}

// list are the files of a package, as Debian's package manager has them; none where it is not installed.
func (m machine) list(name string) (paths []string) {
	f, err := os.Open(filepath.Join(m.root, "var/lib/dpkg/info", name+".list"))
	if err != nil {
		return nil
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		file := path.Clean(lines.Text())
		if path.IsAbs(file) && !skipped(file) {
			paths = append(paths, file)
		}
	}
	return paths
}

func skipped(file string) bool {
	for _, folder := range left {
		if file == folder || strings.HasPrefix(file, folder+"/") {
			return true
		}
	}
	return false
}
