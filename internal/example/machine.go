package example

import (
	"context"
	"debug/elf"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// machine is where the programs are taken from.
type machine struct{ root string }

// libraries are where a Debian has them.
var libraries = []string{"/usr/lib/*-linux-gnu", "/lib/*-linux-gnu", "/usr/lib64", "/lib64", "/usr/lib", "/lib"}

// merged are the folders that a Debian has below /usr, and links to at the top.
var merged = []string{"bin", "lib", "lib64", "sbin"}

// place is where a path truly lies: Debian has /bin below /usr.
func place(file string) string {
	for _, folder := range merged {
		if file == "/"+folder || strings.HasPrefix(file, "/"+folder+"/") {
			return "/usr" + file
		}
	}
	return file
}

// write writes the image's files into a folder that is empty.
func (m machine) write(ctx context.Context, to string) error {
	taken := map[string]bool{}
	var wanted []string
	for _, name := range programs {
		wanted = append(wanted, m.list(name)...)
	}
	for len(wanted) > 0 { // a library may want others, and a link what it leads to
		if ctx.Err() != nil {
			return ctx.Err()
		}
		file := place(wanted[0])
		wanted = wanted[1:]
		if taken[file] || skipped(file) {
			continue
		}
		more, ok := m.wants(file)
		if ok {
			taken[file] = true
			wanted = append(wanted, more...)
		}
	}
	for _, folder := range []string{"usr", "etc", "dev", "proc", "sys", "run", "var", "tmp", "root", "home/crew"} {
		if err := os.MkdirAll(filepath.Join(to, folder), 0o755); err != nil {
			return err
		}
	}
	for _, folder := range merged {
		if err := os.Symlink("usr/"+folder, filepath.Join(to, folder)); err != nil {
			return err
		}
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(to, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if text, err := os.ReadFile(m.at("/usr/lib/os-release")); err == nil {
		if err := os.WriteFile(filepath.Join(to, "etc/os-release"), text, 0o644); err != nil {
			return err
		}
	}
	for _, file := range slices.Sorted(maps.Keys(taken)) {
		if err := m.copy(file, filepath.Join(to, file)); err != nil {
			return err
		}
	}
	if taken["/usr/bin/mawk"] { // Debian's own link goes by a folder of settings
		return os.Symlink("mawk", filepath.Join(to, "usr/bin/awk"))
	}
	return nil
}

func (m machine) at(file string) string { return filepath.Join(m.root, file) }

// wants tells what else a file wants, and whether it is one to take: a regular file that anybody may
// read, or a link.
func (m machine) wants(file string) (more []string, ok bool) {
	info, err := os.Lstat(m.at(file))
	if err != nil {
		return nil, false
	}
	switch {
	case info.Mode().Type() == fs.ModeSymlink:
		to, err := os.Readlink(m.at(file))
		if err != nil || skipped(m.leads(file, to)) {
			return nil, false
		}
		return []string{m.leads(file, to)}, true
	case info.Mode().IsRegular() && info.Mode()&0o004 != 0:
		return m.shared(file), true
	}
	return nil, info.IsDir() && strings.Count(file, "/") > 1 // those at the top are there
}

func (m machine) leads(file, to string) string {
	if !path.IsAbs(to) {
		to = path.Join(path.Dir(file), to)
	}
	return path.Clean(to)
}

// shared are the libraries that a program wants; none of what is no program.
func (m machine) shared(file string) (found []string) {
	f, err := elf.Open(m.at(file))
	if err != nil {
		return nil
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP {
			b, err := io.ReadAll(io.LimitReader(p.Open(), 4096))
			if err == nil {
				found = append(found, strings.TrimRight(string(b), "\x00"))
			}
		}
	}
	names, _ := f.ImportedLibraries() // a program without any has none
	for _, name := range names {
		for _, pattern := range libraries {
			hits, _ := filepath.Glob(m.at(path.Join(pattern, name))) // the patterns are good ones
			if len(hits) > 0 {
				found = append(found, "/"+strings.TrimPrefix(strings.TrimPrefix(hits[0], m.root), "/"))
				break
			}
		}
	}
	return found
}

// copy copies one of the machine's files, without special rights.
func (m machine) copy(file, to string) error {
	info, err := os.Lstat(m.at(file))
	if err != nil {
		return err
	}
	if info.IsDir() {
		return os.MkdirAll(to, 0o755)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if info.Mode().Type() == fs.ModeSymlink {
		leads, err := os.Readlink(m.at(file))
		if err != nil {
			return err
		}
		return os.Symlink(leads, to)
	}
	from, err := os.Open(m.at(file))
	if err != nil {
		return err
	}
	defer from.Close()
	w, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, info.Mode().Perm()|0o200)
	if err != nil {
		return err
	}
	_, err = io.Copy(w, from)
	return errors.Join(err, w.Close())
}
