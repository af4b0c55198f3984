package postgres

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"domicile/internal/fault"
)

// installedAt is where Debian has the programs of each version.
const installedAt = "/usr/lib/postgresql"

// Newest finds the programs of the newest version that is installed.
func Newest() (string, error) {
	list := versions()
	if len(list) == 0 {
		return "", fault.New("no-postgres", "apt-get install postgresql", "PostgreSQL is not installed")
	}
	return folderOf(list[len(list)-1]), nil
}

func folderOf(version int) string { return filepath.Join(installedAt, strconv.Itoa(version), "bin") }

// versions are the installed ones, the oldest first.
func versions() (list []int) {
	found, _ := filepath.Glob(filepath.Join(installedAt, "*", "bin", "postgres")) // the pattern is a good one
	for _, file := range found {
		if n, err := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(file)))); err == nil {
			list = append(list, n)
		}
	}
	slices.Sort(list)
	return list
}

// Programs finds the programs for the server whose data are below folder.
func Programs(folder string) (string, error) { return programsFor(filepath.Join(folder, "data")) }

// programsFor finds the programs of the version that made the data; the newest where there are none.
func programsFor(data string) (string, error) {
	b, err := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if errors.Is(err, fs.ErrNotExist) {
		return Newest()
	}
	if err != nil {
		return "", fmt.Errorf("read which PostgreSQL made the data: %w", err)
	}
	version := strings.TrimSpace(string(b))
	n, err := strconv.Atoi(version)
	if err != nil {
		return "", fault.New("database-version", "put back the folder from a backup", "%s is no data folder of PostgreSQL: its PG_VERSION is no number", data)
	}
	if list := versions(); !slices.Contains(list, n) {
		return "", fault.New("database-version", fmt.Sprintf("apt-get install postgresql-%d (Debian's release before this one has it), then domicile backup FILE, and domicile serve -restore FILE into a new data folder", n),
			"the data in %s are PostgreSQL %d's, which is not installed here: %s", data, n, installed(list))
	}
	return folderOf(n), nil
}

func installed(list []int) string {
	if len(list) == 0 {
		return "none is"
	}
	var words []string
	for _, n := range list {
		words = append(words, strconv.Itoa(n))
	}
	return "there is " + strings.Join(words, ", ")
}

// Owner is who the server runs as: it refuses to run as root.
func Owner() (*syscall.SysProcAttr, error) {
	if os.Getuid() != 0 {
		return &syscall.SysProcAttr{}, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fault.Wrap(err, "no-postgres", "apt-get install postgresql", "there is no user postgres to run PostgreSQL as")
	}
	uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
	gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}, errors.Join(err1, err2)
}

// Initialise makes the data below folder the first time, with a password that is kept beside them.
// What an interrupted start left is no data. Durable: all is on the disk before it counts.
func Initialise(ctx context.Context, folder, bin string, owner *syscall.SysProcAttr, durable bool) (password string, err error) {
	kept, data, begun := filepath.Join(folder, "password"), filepath.Join(folder, "data"), filepath.Join(folder, "data.begun")
	if _, err := os.Stat(data); err == nil {
		b, err := os.ReadFile(kept)
		if err != nil {
			return "", fault.Wrap(err, "database-closed", "put back the file password beside it", "the password of PostgreSQL's data in %s cannot be read", folder)
		}
		return strings.TrimSpace(string(b)), nil
	}
	if err := os.RemoveAll(begun); err != nil {
		return "", fmt.Errorf("remove what an interrupted start left: %w", err)
	}
	if owner.Credential != nil {
		if err := passable(folder, owner.Credential); err != nil {
			return "", err
		}
	}
	password = rand.Text()
	if err := write(kept, password); err != nil {
		return "", err
	}
	handed := filepath.Join(folder, "handed")
	if err := write(handed, password); err != nil {
		return "", err
	}
	defer os.Remove(handed)
	if c := owner.Credential; c != nil {
		if err := os.Chown(handed, int(c.Uid), int(c.Gid)); err != nil {
			return "", err
		}
	}
	if err := give(begun, owner); err != nil {
		return "", err
	}
	args := []string{"-D", begun, "-U", name, "-E", "UTF8", "--locale=C.UTF-8", "--auth=scram-sha-256", "--pwfile=" + handed}
	if !durable {
		args = append(args, "--no-sync")
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), args...)
	cmd.SysProcAttr, cmd.Dir, cmd.Env = owner, "/", surroundings()
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("make PostgreSQL's data: %w: %s", err, lastLine(out))
	}
	if err := os.Rename(begun, data); err != nil {
		return "", fmt.Errorf("keep PostgreSQL's data: %w", err)
	}
	return password, nil
}

// write writes a word that only the folder's owner reads, for good.
func write(file, word string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write PostgreSQL's password: %w", err)
	}
	_, err = f.WriteString(word + "\n")
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write PostgreSQL's password: %w", err)
	}
	return nil
}

func lastLine(out []byte) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	return lines[len(lines)-1]
}

// passable checks that the server's user can pass the folders above.
func passable(folder string, c *syscall.Credential) error {
	for dir := filepath.Dir(folder); ; dir = filepath.Dir(dir) {
		info, err := os.Stat(dir)
		if err != nil {
			return fmt.Errorf("look at the folders above PostgreSQL's data: %w", err)
		}
		group := info.Sys().(*syscall.Stat_t).Gid
		if info.Mode()&0o001 == 0 && (info.Mode()&0o010 == 0 || group != c.Gid) {
			return fault.New("folder-closed", "choose a folder whose parents others may pass, or chmod o+x "+dir,
				"PostgreSQL runs as the user postgres, who cannot pass the folder %s", dir)
		}
		if dir == "/" {
			return nil
		}
	}
}
