package files

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// The kinds of packets that are looked at here (draft-ietf-secsh-filexfer-02).
const (
	kindVersion       = 2
	kindOpen          = 3
	kindClose         = 4
	kindRmdir         = 15
	kindRename        = 18
	kindSymlink       = 20
	kindStatus        = 101
	kindHandle        = 102
	kindName          = 104
	kindExtended      = 200
	kindExtendedReply = 201
)

var looked = map[byte]bool{kindOpen: true, kindClose: true, kindRmdir: true, kindRename: true, kindSymlink: true, kindExtended: true}

// The codes of a status.
const (
	statusOK = iota
	_
	statusNoFile
	statusDenied
	statusFailure
	statusBadMessage
)

// extensions are told to the client beside the library's own; each has its version.
var extensions = []string{"fsync@openssh.com", "1", "lsetstat@openssh.com", "1", "limits@openssh.com", "1", "expand-path@openssh.com", "1"}

func number(b []byte) uint32 { return binary.BigEndian.Uint32(b) }

// reader takes a packet apart.
type reader struct {
	rest []byte
	bad  bool
}

func (r *reader) number() uint32 {
	if len(r.rest) < 4 {
		r.bad = true
		return 0
	}
	n := number(r.rest)
	r.rest = r.rest[4:]
	return n
}

func (r *reader) text() string {
	n := int(r.number())
	if r.bad || n > len(r.rest) {
		r.bad = true
		return ""
	}
	s := string(r.rest[:n])
	r.rest = r.rest[n:]
	return s
}

func text(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
}

// send sends a packet of ours.
func (s *Server) send(kind byte, id uint32, body []byte) {
	b := binary.BigEndian.AppendUint32(nil, uint32(len(body)+5))
	b = append(binary.BigEndian.AppendUint32(append(b, kind), id), body...)
	s.writing.Lock()
	defer s.writing.Unlock()
	_, _ = s.out.Write(b) // a client that is gone is noticed by who reads from it
}

func (s *Server) status(id uint32, err error) {
	code, words := uint32(statusOK), "Success"
	switch {
	case err == nil:
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR), errors.Is(err, syscall.ELOOP):
		code = statusNoFile
	case errors.Is(err, fs.ErrPermission):
		code = statusDenied
	case errors.Is(err, errBadMessage):
		code, words = statusBadMessage, "Bad message"
	default:
		code, words = statusFailure, err.Error()
	}
	if plain := plainWords[code]; plain != "" {
		words = plain
	}
	s.send(kindStatus, id, text(text(binary.BigEndian.AppendUint32(nil, code), words), ""))
}

// plainWords are what OpenSSH's server says; some clients show it.
var plainWords = map[uint32]string{statusNoFile: "No such file", statusDenied: "Permission denied"}

var errBadMessage = errors.New("bad message")

// seen looks at an answer of the library's before it goes.
func (s *Server) seen(packet []byte) []byte {
	r := &reader{rest: packet[5:]}
	if packet[4] == kindVersion {
		for _, e := range extensions {
			packet = text(packet, e)
		}
		binary.BigEndian.PutUint32(packet, uint32(len(packet)-4))
		return packet
	}
	id := r.number()
	s.mu.Lock()
	defer s.mu.Unlock()
	name, is := s.opening[id]
	delete(s.opening, id) // opened, or told why not
	switch {
	case is && packet[4] == kindHandle:
		s.open[r.text()] = name
	case packet[4] == kindStatus:
		if code := r.number(); !r.bad && plainWords[code] != "" {
			packet = text(text(packet[:13:13], plainWords[code]), "")
			binary.BigEndian.PutUint32(packet, uint32(len(packet)-4))
		}
	}
	return packet
}

// answer answers a request that the library does not know, or not as OpenSSH does. False: the
// library answers it.
func (s *Server) answer(kind byte, body []byte) bool {
	r := &reader{rest: body}
	id := r.number()
	switch kind {
	case kindOpen:
		name := r.text()
		s.mu.Lock()
		defer s.mu.Unlock()
		s.opening[id] = s.local(name)
		return false
	case kindClose:
		handle := r.text()
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.open, handle)
		return false
	case kindRmdir:
		name := r.text()
		if r.bad {
			return false
		}
		s.status(id, syscall.Rmdir(s.local(name)))
		return true
	case kindRename:
		from, to := r.text(), r.text()
		if r.bad {
			return false
		}
		s.status(id, rename(s.local(from), s.local(to)))
		return true
	case kindSymlink: // OpenSSH sends the target first, against the draft, and everybody follows
		target, link := r.text(), r.text()
		if r.bad {
			s.status(id, errBadMessage)
			return true
		}
		s.status(id, os.Symlink(target, s.local(link)))
		return true
	}
	switch name := r.text(); name {
	case "fsync@openssh.com":
		s.status(id, s.sync(r.text()))
	case "lsetstat@openssh.com":
		s.status(id, s.setLink(r))
	case "limits@openssh.com":
		s.limits(id)
	case "expand-path@openssh.com":
		s.expand(id, r.text())
	default:
		return false
	}
	return true
}

// rename gives a file another name, which must be free: posix-rename@openssh.com is for what
// replaces another.
func rename(from, to string) error {
	return unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
}

// local is the path of a file: what does not begin with a slash lies in the home folder.
func (s *Server) local(name string) string {
	if filepath.IsAbs(name) {
		return filepath.Clean(name)
	}
	return filepath.Join(s.Home, name)
}

func (s *Server) sync(handle string) error {
	s.mu.Lock()
	name, is := s.open[handle]
	s.mu.Unlock()
	if !is {
		return fs.ErrNotExist
	}
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if errors.Is(err, fs.ErrPermission) { // one that may only be written
		f, err = os.OpenFile(name, os.O_WRONLY|syscall.O_NONBLOCK, 0)
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// The flags of attributes.
const (
	hasSize  = 1
	hasOwner = 2
	hasMode  = 4
	hasTimes = 8
)

// setLink sets the attributes of a link itself. Linux has no rights of links.
func (s *Server) setLink(r *reader) error {
	name, flags := s.local(r.text()), r.number()
	if flags&hasSize != 0 || r.bad {
		return errBadMessage
	}
	if flags&hasOwner != 0 {
		uid, gid := r.number(), r.number()
		if r.bad {
			return errBadMessage
		}
		if err := os.Lchown(name, int(uid), int(gid)); err != nil {
			return err
		}
	}
	if flags&hasMode != 0 {
		mode := r.number()
		info, err := os.Lstat(name)
		if err != nil {
			return err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			if err := os.Chmod(name, fs.FileMode(mode).Perm()); err != nil {
				return err
			}
		}
	}
	if flags&hasTimes != 0 {
		accessed, modified := r.number(), r.number()
		if r.bad {
			return errBadMessage
		}
		times := []unix.Timespec{{Sec: int64(accessed)}, {Sec: int64(modified)}}
		if err := unix.UtimesNanoAt(unix.AT_FDCWD, name, times, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return &fs.PathError{Op: "set times", Path: name, Err: err}
		}
	}
	return nil
}

func (s *Server) limits(id uint32) {
	var files unix.Rlimit
	_ = unix.Getrlimit(unix.RLIMIT_NOFILE, &files) // 0: it is not told
	var b []byte
	for _, n := range []uint64{maxPacket, maxData, maxData, files.Cur} {
		b = binary.BigEndian.AppendUint64(b, n)
	}
	s.send(kindExtendedReply, id, b)
}

// expand answers what ~, ~/x, ~user/x or a path without a slash means.
func (s *Server) expand(id uint32, name string) {
	if rest, is := strings.CutPrefix(name, "~"); is {
		who, below, _ := strings.Cut(rest, "/")
		home := s.Home
		if who != "" {
			u, err := user.Lookup(who)
			if err != nil {
				s.status(id, fs.ErrNotExist)
				return
			}
			home = u.HomeDir
		}
		name = filepath.Join(home, below)
	}
	name = s.local(name)
	if whole, err := filepath.EvalSymlinks(name); err == nil {
		name = whole
	}
	b := binary.BigEndian.AppendUint32(nil, 1)
	b = binary.BigEndian.AppendUint32(text(text(b, name), name), 0) // no attributes
	s.send(kindName, id, b)
}
