package agent

import (
	"bufio"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
)

// Engines carry the content of files from site to site, but not all that belongs to it: fractions of their times, the
// times of folders, extended attributes (and with them ACLs), and holes are lost. So the agent notes these before a
// workspace moves, in a file of the container, and restores them where it arrives. Both are done with the rights of
// the workspace's user.

// noteFile is where the notes are on their way. Only root can write there.
const noteFile = "/var/lib/domicile-files.gz"

const (
	maxNoted  = 2_000_000 // files
	maxXattrs = 64 << 10  // bytes of a file's attributes
	block     = 4096
)

// noted is what is noted of a file.
type noted struct {
	Path   string            `json:"p"`
	Time   int64             `json:"t"` // of its last change, in nanoseconds since 1970
	Xattrs map[string][]byte `json:"x,omitempty"`
	Holes  bool              `json:"h,omitempty"`
}

// carried are attributes that a user may set: its own, and ACLs.
func carried(name string) bool {
	return strings.HasPrefix(name, "user.") || strings.HasPrefix(name, "system.posix_acl_")
}

// noteFiles notes the files below some folders, each before the folder that it is in.
func noteFiles(a *account, roots []string, to io.Writer) (count int, err error) {
	return asUser(a, func() (int, error) {
		out := json.NewEncoder(to)
		n := 0
		for _, root := range roots {
			if err := noteBelow(root, func(f noted) error {
				if n++; n > maxNoted {
					return fmt.Errorf("there are more than %d files", maxNoted)
				}
				return out.Encode(f)
			}); err != nil {
				return n, err
			}
		}
		return n, nil
	})
}

func noteBelow(folder string, note func(noted) error) error {
	list, err := os.ReadDir(folder)
	if err != nil {
		return nil // the user may not look there, or it is gone
	}
	for _, e := range list {
		at := filepath.Join(folder, e.Name())
		if e.IsDir() {
			if err := noteBelow(at, note); err != nil {
				return err
			}
			continue
		}
		if err := noteOne(at, note); err != nil {
			return err
		}
	}
	return noteOne(folder, note)
}

func noteOne(at string, note func(noted) error) error {
	var is unix.Stat_t
	if unix.Lstat(at, &is) != nil {
		return nil
	}
	f := noted{Path: at, Time: is.Mtim.Nano(), Xattrs: xattrsOf(at)}
	f.Holes = is.Mode&unix.S_IFMT == unix.S_IFREG && is.Blocks*512 < is.Size
	return note(f)
}

func xattrsOf(at string) (list map[string][]byte) {
	names := make([]byte, maxXattrs)
	n, err := unix.Llistxattr(at, names)
	if err != nil || n <= 0 {
		return nil
	}
	value := make([]byte, maxXattrs)
	for name := range strings.SplitSeq(strings.TrimSuffix(string(names[:n]), "\x00"), "\x00") {
		if !carried(name) {
			continue
		}
		if n, err := unix.Lgetxattr(at, name, value); err == nil {
			if list == nil {
				list = map[string][]byte{}
			}
			list[name] = append([]byte(nil), value[:n]...)
		}
	}
	return list
}

// restoreFiles restores what was noted, as far as the user may, and returns how many files could not be restored. A
// file that is not there any more is passed over.
func restoreFiles(a *account, roots []string, from io.Reader) (failed int, err error) {
	return asUser(a, func() (int, error) {
		failed := 0
		for in := json.NewDecoder(bufio.NewReader(from)); ; {
			var f noted
			err := in.Decode(&f)
			if errors.Is(err, io.EOF) {
				return failed, nil
			}
			if err != nil {
				return failed, fmt.Errorf("read what was noted of files: %w", err)
			}
			if !below(roots, f.Path) {
				continue
			}
			if err := restoreOne(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
				failed++
			}
		}
	})
}

func below(roots []string, at string) bool {
	for _, root := range roots {
		if at == root || strings.HasPrefix(at, strings.TrimSuffix(root, "/")+"/") {
			return filepath.Clean(at) == at
		}
	}
	return false
}

func restoreOne(f noted) error {
	var errs []error
	if f.Holes {
		errs = append(errs, makeHoles(f.Path))
	}
	for name, value := range f.Xattrs {
		if carried(name) {
			errs = append(errs, unix.Lsetxattr(f.Path, name, value, 0))
		}
	}
	times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, unix.NsecToTimespec(f.Time)}
	return errors.Join(append(errs, unix.UtimesNanoAt(unix.AT_FDCWD, f.Path, times, unix.AT_SYMLINK_NOFOLLOW))...)
}

// makeHoles gives back the room of blocks that have only zeros.
func makeHoles(at string) error {
	fd, err := unix.Open(at, unix.O_RDWR|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	f := os.NewFile(uintptr(fd), at)
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return err
	}
	zeros, b := make([]byte, block), make([]byte, 256*block)
	for at := int64(0); at < info.Size(); {
		n, err := f.ReadAt(b, at)
		for i := 0; i+block <= n; i += block {
			end := i
			for end+block <= n && string(b[end:end+block]) == string(zeros) {
				end += block
			}
			if end > i {
				if err := unix.Fallocate(fd, unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, at+int64(i), int64(end-i)); err != nil {
					return err
				}
				i = end - block
			}
		}
		at += int64(n)
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if n == 0 {
			break
		}
	}
	return nil
}

// noteOnRequest notes the files below the folders that the service names.
func (s *Server) noteOnRequest(q wire.FilesRequest) wire.FilesReply {
	p, err := s.current()
	if err == nil && os.Getuid() != 0 {
		err = errors.New("the agent is not root")
	}
	var f *os.File
	if err == nil {
		_ = os.Remove(noteFile)
		_ = os.MkdirAll(filepath.Dir(noteFile), 0o755)
		f, err = os.OpenFile(noteFile, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	}
	if err != nil {
		return wire.FilesReply{Error: err.Error()}
	}
	packed := gzip.NewWriter(f)
	n, err := noteFiles(p.account, q.Folders, packed)
	if err = errors.Join(err, packed.Close(), f.Close()); err != nil {
		_ = os.Remove(noteFile)
		return wire.FilesReply{Error: err.Error()}
	}
	return wire.FilesReply{Count: n}
}

// restoreOnRequest restores what was noted, and forgets it.
func (s *Server) restoreOnRequest(q wire.FilesRequest) (answer wire.FilesReply) {
	p, err := s.current()
	if err != nil {
		return wire.FilesReply{Error: err.Error()}
	}
	f, err := os.OpenFile(noteFile, os.O_RDONLY|unix.O_NOFOLLOW, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return answer
	}
	if err == nil {
		defer os.Remove(noteFile)
		defer f.Close()
		var unpacked *gzip.Reader
		if unpacked, err = gzip.NewReader(f); err == nil {
			answer.Failed, err = restoreFiles(p.account, q.Folders, unpacked)
		}
	}
	if err != nil {
		answer.Error = err.Error()
	}
	return answer
}
