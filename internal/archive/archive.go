// Package archive unpacks tar archives of strangers into a folder: nothing leaves the
// folder, no devices are made, and size and count are bounded.
package archive

import (
	"archive/tar"
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
)

// Limits bound what is unpacked.
type Limits struct {
	Bytes   int64 // of all files together
	Entries int
}

// Usual are the limits for features and templates, which are scripts and small files.
var Usual = Limits{Bytes: 256 << 20, Entries: 20_000}

// ErrRefused is what an archive is refused with.
var ErrRefused = errors.New("the archive is refused")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
}

// Entry is one of an archive.
type Entry struct {
	Name string `json:"name"`
	Type byte   `json:"type"` // as in the archive
	Link string `json:"link,omitempty"`
	Runs bool   `json:"runs,omitempty"` // it may be run
	Size int64  `json:"size,omitempty"`
}

// Unpack unpacks a tar archive, compressed with gzip or not, into root. Owners and times
// are not kept; of the mode only whether a file may be run.
func Unpack(ctx context.Context, r io.Reader, root *os.Root, l Limits) error {
	f := Folder{Root: root, Limits: l}
	return Read(ctx, r, f.Put)
}

// Read reads a tar archive, compressed with gzip or not, and gives its entries one after
// the other. It judges nothing: that is for who keeps them.
func Read(ctx context.Context, r io.Reader, give func(e Entry, content io.Reader) error) error {
	buffered := bufio.NewReaderSize(r, 64<<10)
	r = buffered
	if magic, _ := buffered.Peek(2); len(magic) == 2 && magic[0] == 0x1f && magic[1] == 0x8b {
		z, err := gzip.NewReader(buffered)
		if err != nil {
			return fmt.Errorf("read the archive: %w", err)
		}
		defer z.Close()
		r = z
	}
	t := tar.NewReader(r)
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the archive: %w", err)
		}
		if err := give(Entry{h.Name, h.Typeflag, h.Linkname, h.Mode&0o111 != 0, h.Size}, t); err != nil {
			return err
		}
	}
}

// Folder is where entries are put: nothing that they say leads out of it.
type Folder struct {
	Root    *os.Root
	Limits  Limits
	entries int
}

// Put makes an entry.
func (f *Folder) Put(e Entry, content io.Reader) error {
	if f.entries++; f.entries > f.Limits.Entries {
		return refuse("it has more than %d entries", f.Limits.Entries)
	}
	name := path.Clean(e.Name)
	if e.Type == tar.TypeXGlobalHeader || name == "." {
		return nil
	}
	if !fs.ValidPath(name) || strings.ContainsAny(e.Name, "\\\x00") || len(name) > 1024 {
		return refuse("the name %.100q leads out of its folder", e.Name)
	}
	if strings.Count(name, "/") > 32 {
		return refuse("%.100q is nested too deep", e.Name)
	}
	if parent := path.Dir(name); parent != "." {
		if err := f.Root.MkdirAll(parent, 0o755); err != nil {
			return fmt.Errorf("unpack %s: %w", name, err)
		}
	}
	var err error
	switch e.Type {
	case tar.TypeDir:
		if err = f.Root.MkdirAll(name, 0o755); errors.Is(err, fs.ErrExist) {
			err = nil
		}
	case tar.TypeReg:
		err = f.file(e, name, content)
	case tar.TypeSymlink:
		if path.IsAbs(e.Link) || !inside(path.Join(path.Dir(name), e.Link)) {
			return refuse("the link %s leads out to %.100q", name, e.Link)
		}
		_ = f.Root.Remove(name) // a later entry of the same name counts
		err = f.Root.Symlink(e.Link, name)
	case tar.TypeLink:
		return refuse("%s is a hard link", name)
	default:
		return refuse("%s is neither a file nor a folder nor a link", name)
	}
	if err != nil {
		return fmt.Errorf("unpack %s: %w", name, err)
	}
	return nil
}

func inside(p string) bool { return p != ".." && !strings.HasPrefix(p, "../") }

func (f *Folder) file(e Entry, name string, content io.Reader) error {
	left := &f.Limits.Bytes
	if e.Size > *left {
		return refuse("it unpacks to too many bytes")
	}
	mode := fs.FileMode(0o644)
	if e.Runs {
		mode = 0o755
	}
	_ = f.Root.Remove(name) // never write through what an earlier entry made a link
	to, err := f.Root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	n, err := io.Copy(to, io.LimitReader(content, *left+1))
	*left -= n
	if closeErr := to.Close(); err == nil {
		err = closeErr
	}
	if err == nil && *left < 0 {
		return refuse("it unpacks to too many bytes")
	}
	return err
}

// Pack writes the files of a folder as a tar archive whose bytes depend on names, content
// and the right to run alone.
func Pack(w io.Writer, files fs.FS) error {
	t := tar.NewWriter(w)
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		h := &tar.Header{Name: name, Mode: 0o644, Format: tar.FormatPAX}
		switch {
		case d.IsDir():
			h.Typeflag, h.Name, h.Mode = tar.TypeDir, name+"/", 0o755
			return t.WriteHeader(h)
		case d.Type()&fs.ModeSymlink != 0:
			h.Typeflag = tar.TypeSymlink
			if h.Linkname, err = fs.ReadLink(files, name); err != nil {
				return err
			}
			return t.WriteHeader(h)
		case !d.Type().IsRegular():
			return nil
		}
		h.Typeflag, h.Size = tar.TypeReg, info.Size()
		if info.Mode()&0o111 != 0 || strings.HasSuffix(name, ".sh") { // embedded files carry no right to run
			h.Mode = 0o755
		}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		f, err := files.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(t, io.LimitReader(f, h.Size))
		return err
	})
	if err != nil {
		return fmt.Errorf("pack the folder: %w", err)
	}
	return t.Close()
}
