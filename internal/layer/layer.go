// Package layer writes what a container has beyond its image as a layer of an image: the upper
// folder of its overlay, with what is removed marked as the image format has it, and its volumes at
// their places. It reads folders; what is done with the layer is its reader's.
package layer

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Part is a folder that goes into a layer.
type Part struct {
	From  string `json:"from"`            // the folder
	At    string `json:"at,omitempty"`    // where it lies in the layer, without a slash in front; empty: it is the layer's root
	Upper bool   `json:"upper,omitempty"` // it is the upper folder of an overlay
}

// End ends a layer that was written whole, on a stream that may break off.
const End = "\nwhole\n"

// What is removed (OCI image layer specification, whiteouts).
const (
	removed = ".wh."
	opaque  = ".wh..wh..opq" // all that a folder had
)

// Write writes parts as a layer. Later ones lie over earlier ones, of which what is beneath is left
// out: no path is in a layer twice.
func Write(w io.Writer, parts []Part) error {
	out := &writer{tar: tar.NewWriter(w), links: map[inode]string{}}
	for i, p := range parts {
		out.above = map[string]bool{}
		for _, later := range parts[i+1:] {
			out.above[later.place()] = true
		}
		if err := out.part(p); err != nil {
			return fmt.Errorf("write %s into a layer: %w", p.From, err)
		}
	}
	return out.tar.Close()
}

// inode is a file that may have several names.
type inode struct{ device, number uint64 }

func (p Part) place() string { return strings.Trim(path.Clean("/"+p.At), "/") }

type writer struct {
	tar   *tar.Writer
	above map[string]bool  // where later parts lie
	links map[inode]string // the first name of each file that has several
}

func (w *writer) part(p Part) error {
	root, err := os.OpenRoot(p.From)
	if err != nil {
		return err
	}
	defer root.Close()
	at := p.place()
	return fs.WalkDir(root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := path.Join(at, name)
		if to == "." { // the root is the image's
			return nil
		}
		if w.above[to] && d.IsDir() {
			return fs.SkipDir
		}
		if w.above[to] {
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // it went meanwhile
		}
		if err != nil {
			return err
		}
		return w.entry(root, p, name, to, info)
	})
}

// entry writes one file or folder.
func (w *writer) entry(root *os.Root, p Part, name, to string, info fs.FileInfo) error {
	own := filepath.Join(p.From, name) // for what a root does not tell: no link is followed
	var stat unix.Stat_t
	if err := unix.Lstat(own, &stat); err != nil {
		return err
	}
	switch info.Mode().Type() {
	case fs.ModeSocket:
		return nil // nobody listens there any more
	case fs.ModeDevice | fs.ModeCharDevice:
		if p.Upper && stat.Rdev == 0 {
			return w.empty(path.Join(path.Dir(to), removed+path.Base(to)))
		}
	}
	link := ""
	if info.Mode()&fs.ModeSymlink != 0 {
		var err error
		if link, err = root.Readlink(name); err != nil {
			return err
		}
	}
	h, err := tar.FileInfoHeader(info, link)
	if err != nil {
		return err
	}
	h.Name, h.Uid, h.Gid, h.Uname, h.Gname, h.Format = to, int(stat.Uid), int(stat.Gid), "", "", tar.FormatPAX
	h.AccessTime, h.ChangeTime = time.Time{}, time.Time{} // nobody wants to know
	if info.IsDir() {
		h.Name += "/"
	}
	if stat.Nlink > 1 && info.Mode().IsRegular() {
		if first, known := w.links[inode{stat.Dev, stat.Ino}]; known {
			h.Typeflag, h.Linkname, h.Size = tar.TypeLink, first, 0
		} else {
			w.links[inode{stat.Dev, stat.Ino}] = to
		}
	}
	if link == "" {
		h.PAXRecords = attributes(own)
	}
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	if p.Upper && info.IsDir() && hasAttribute(own, "trusted.overlay.opaque") {
		return w.empty(path.Join(to, opaque))
	}
	if h.Typeflag != tar.TypeReg || h.Size == 0 {
		return nil
	}
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err = io.CopyN(w.tar, f, h.Size); errors.Is(err, io.EOF) {
		err = fmt.Errorf("%s became shorter meanwhile", name)
	}
	return err
}

func (w *writer) empty(name string) error {
	return w.tar.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o600, Format: tar.FormatPAX})
}

// mostAttribute bounds a value that is kept, in bytes.
const mostAttribute = 64 << 10

// attributes are the extended attributes that a layer keeps: what programs may do, and what users
// have noted.
func attributes(file string) map[string]string {
	size, err := unix.Llistxattr(file, nil)
	if err != nil || size == 0 {
		return nil
	}
	names := make([]byte, size)
	if size, err = unix.Llistxattr(file, names); err != nil {
		return nil
	}
	var records map[string]string
	for name := range strings.SplitSeq(string(names[:size]), "\x00") {
		if name != "security.capability" && !strings.HasPrefix(name, "user.") {
			continue
		}
		value := make([]byte, mostAttribute)
		n, err := unix.Lgetxattr(file, name, value)
		if err != nil {
			continue
		}
		if records == nil {
			records = map[string]string{}
		}
		records["SCHILY.xattr."+name] = string(value[:n])
	}
	return records
}

func hasAttribute(file, name string) bool {
	value := make([]byte, 1)
	n, err := unix.Lgetxattr(file, name, value)
	return err == nil && n == 1 && value[0] == 'y'
}
