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

// Unpack unpacks a tar archive, compressed with gzip or not, into root. Owners and times
// are not kept; of the mode only whether a file may be run.
func Unpack(ctx context.Context, r io.Reader, root *os.Root, l Limits) error {
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
	for entries := 0; ; entries++ {
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
		if entries == l.Entries {
			return refuse("it has more than %d entries", l.Entries)
		}
		if err := unpack(t, h, root, &l.Bytes); err != nil {
			return err
		}
	}
}

func unpack(t *tar.Reader, h *tar.Header, root *os.Root, left *int64) error {
	name := path.Clean(h.Name)
	if h.Typeflag == tar.TypeXGlobalHeader || name == "." {
		return nil
	}
	if !fs.ValidPath(name) || strings.ContainsAny(h.Name, "\\\x00") || len(name) > 1024 {
		return refuse("the name %.100q leads out of its folder", h.Name)
	}
	if strings.Count(name, "/") > 32 {
		return refuse("%.100q is nested too deep", h.Name)
	}
	if parent := path.Dir(name); parent != "." {
		if err := root.MkdirAll(parent, 0o755); err != nil {
			return fmt.Errorf("unpack %s: %w", name, err)
		}
	}
	var err error
	switch h.Typeflag {
	case tar.TypeDir:
		if err = root.MkdirAll(name, 0o755); errors.Is(err, fs.ErrExist) {
			err = nil
		}
	case tar.TypeReg:
		err = file(t, h, root, name, left)
	case tar.TypeSymlink:
		if path.IsAbs(h.Linkname) || !inside(path.Join(path.Dir(name), h.Linkname)) {
			return refuse("the link %s leads out to %.100q", name, h.Linkname)
		}
		_ = root.Remove(name) // a later entry of the same name counts
		err = root.Symlink(h.Linkname, name)
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

func file(t *tar.Reader, h *tar.Header, root *os.Root, name string, left *int64) error {
	if h.Size > *left {
		return refuse("it unpacks to too many bytes")
	}
	mode := fs.FileMode(0o644)
	if h.Mode&0o111 != 0 {
		mode = 0o755
	}
	_ = root.Remove(name) // never write through what an earlier entry made a link
	f, err := root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	n, err := io.Copy(f, io.LimitReader(t, *left+1))
	*left -= n
	if closeErr := f.Close(); err == nil {
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
