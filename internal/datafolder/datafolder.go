// Package datafolder claims the folder in which the service keeps its keys, mirrors, sockets and own
// database: it is made where it is missing, refused where it is another's or cannot hold what it must,
// and held against a second service.
package datafolder

import (
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"
	"golang.org/x/sys/unix"

	"domicile/internal/fault"
)

const (
	// mark is the file by which a data folder is known; the service writes it before all else.
	mark = "domicile-data"
	// earlier is what the folders of versions without a mark have.
	earlier = "secret.key"
	lock    = "lock"
)

// Folder is a data folder that is claimed.
type Folder struct {
	Path string // absolute
	held *flock.Flock
}

// Claim claims a folder. Where several services share their records they share the folder, too; alone
// claims it for one.
func Claim(path string, alone bool) (*Folder, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, fmt.Errorf("find the data folder: %w", err)
	}
	fresh, err := look(path)
	if err != nil {
		return nil, err
	}
	if err := ownOnly(path); err != nil {
		return nil, err
	}
	for _, folder := range []string{path, filepath.Join(path, "sockets"), filepath.Join(path, "doors"), filepath.Join(path, "views")} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return nil, cannot(err, path)
		}
	}
	f := &Folder{Path: path, held: flock.New(filepath.Join(path, lock), flock.SetPermissions(0o600))}
	take := f.held.TryRLock
	if alone {
		take = f.held.TryLock
	}
	taken, err := take()
	if err != nil {
		return nil, cannot(err, path)
	}
	if !taken {
		return nil, f.isHeld()
	}
	if err = os.Chmod(path, 0o700); err != nil {
		err = cannot(err, path)
	} else {
		err = f.begin(fresh)
	}
	if err != nil {
		f.Release()
		return nil, err
	}
	return f, nil
}

// Try tells what keeps a folder from being claimed, and changes nothing.
func Try(path string, alone bool) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return fmt.Errorf("find the data folder: %w", err)
	}
	if _, err := look(path); err != nil {
		return err
	}
	at := path
	for {
		if _, err := os.Stat(at); err == nil || at == "/" {
			break
		}
		at = filepath.Dir(at) // where it would be made
	}
	if err := unix.Access(at, unix.W_OK|unix.X_OK); err != nil {
		return cannot(err, path)
	}
	if _, err := os.Stat(filepath.Join(path, lock)); err != nil {
		return nil // nobody has held it yet
	}
	// It may be another user's, who can put anything there.
	f := &Folder{Path: path, held: flock.New(filepath.Join(path, lock), flock.SetFlag(os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOFOLLOW))}
	take := f.held.TryRLock
	if alone {
		take = f.held.TryLock
	}
	taken, err := take()
	if err != nil {
		return cannot(err, path)
	}
	if !taken {
		return f.isHeld()
	}
	f.Release()
	return nil
}

func (f *Folder) isHeld() error {
	return fault.New("folder-held", "end that one first, or choose another folder with -data", "the data folder %s is another service's: %s", f.Path, f.holder())
}

// look tells whether there is nothing yet, and refuses what is not ours.
func look(path string) (fresh bool, err error) {
	list, err := os.ReadDir(path)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, cannot(err, path)
	}
	for _, x := range list {
		if x.Name() == mark || x.Name() == earlier {
			return false, nil
		}
	}
	for _, x := range list {
		switch x.Name() {
		case lock, "sockets", "doors", "views", "lost+found": // of a first start that was cut; a disk's own
		default:
			return false, fault.New("not-our-folder", "choose an empty folder, or one that is not there yet, with -data", "the folder %s is not Domicile's: it has %s, and no %s", path, x.Name(), mark)
		}
	}
	return true, nil
}

// cannot tells why the folder cannot be used.
func cannot(err error, path string) error {
	remedy := "choose another with -data, or make it"
	switch {
	case errors.Is(err, fs.ErrPermission), errors.Is(err, syscall.EROFS):
		remedy = "give it to the user whom the service runs as (chown), or choose another with -data"
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		remedy = "make room on its disk, or choose another with -data"
	}
	return fault.Wrap(err, "no-data-folder", remedy, "cannot use the data folder %s", path)
}

// begin writes who holds the folder, its mark where it is fresh, and tries a socket.
func (f *Folder) begin(fresh bool) error {
	who := fmt.Sprintf("process %d since %s\n", os.Getpid(), time.Now().UTC().Format(time.RFC3339))
	if err := write(filepath.Join(f.Path, lock), who); err != nil {
		return cannot(err, f.Path)
	}
	if fresh {
		if err := write(filepath.Join(f.Path, mark), "The data of a Domicile service. Its keys are in here: nobody else is to read them.\n"); err != nil {
			return cannot(err, f.Path)
		}
	}
	return f.trySocket()
}

func write(file, text string) error {
	w, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = w.WriteString(text)
	return errors.Join(err, w.Sync(), w.Close())
}

// trySocket tells whether the folder's file system has sockets. The path may be longer than a socket's:
// it is reached through its folder.
func (f *Folder) trySocket() error {
	folder, err := os.Open(filepath.Join(f.Path, "sockets"))
	if err != nil {
		return cannot(err, f.Path)
	}
	defer folder.Close()
	at := fmt.Sprintf("/proc/self/fd/%d/try-%d", folder.Fd(), os.Getpid())
	_ = os.Remove(at) // of one with this number that was killed
	l, err := net.Listen("unix", at)
	if err != nil {
		return fault.Wrap(err, "no-data-folder", "choose one on a disk of this machine with -data", "the file system of the data folder %s has no sockets", f.Path)
	}
	return l.Close() // which removes it
}

func (f *Folder) holder() string {
	b, err := os.ReadFile(filepath.Join(f.Path, lock))
	if err != nil || len(b) == 0 {
		return "who holds it is not known"
	}
	return strings.TrimSpace(string(b))
}

// Owner is whose a folder is; of one that is not there yet, this user's.
func Owner(path string) (user, group uint32, err error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return uint32(os.Getuid()), uint32(os.Getgid()), nil
	}
	if err != nil {
		return 0, 0, cannot(err, path)
	}
	s := info.Sys().(*syscall.Stat_t)
	return s.Uid, s.Gid, nil
}

// ownOnly keeps root from writing into another user's folder: that one could lead it elsewhere by links.
func ownOnly(path string) error {
	whose, _, err := Owner(path)
	if err != nil || os.Getuid() != 0 || whose == 0 {
		return err
	}
	name := strconv.FormatUint(uint64(whose), 10)
	if u, err := user.LookupId(name); err == nil {
		name = u.Username
	}
	return fault.New("another-users", "start it as that one: runuser -u "+name+" -- domicile serve", "the data folder %s is the user %s's, and root writes nothing into it", path, name)
}

// LetPass lets a group pass the folder, and see nothing in it: that of a server whose own folder is in
// there.
func (f *Folder) LetPass(group int) error {
	if err := os.Chown(f.Path, -1, group); err != nil {
		return cannot(err, f.Path)
	}
	if err := os.Chmod(f.Path, 0o710); err != nil {
		return cannot(err, f.Path)
	}
	return nil
}

// Release lets go of the folder.
func (f *Folder) Release() { _ = f.held.Unlock() }
