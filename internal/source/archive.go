package source

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// WriteArchive writes a folder's files as a tar archive: folders, files and links as
// links. What else there is (sockets, devices) is left out.
func WriteArchive(ctx context.Context, folder string, to io.Writer) error {
	w := tar.NewWriter(to)
	err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		name, err := filepath.Rel(folder, path)
		if err != nil || name == "." {
			return err
		}
		return writeEntry(w, path, name, entry)
	})
	if err != nil {
		return fmt.Errorf("archive %s: %w", folder, err)
	}
	return w.Close()
}

func writeEntry(w *tar.Writer, path, name string, entry fs.DirEntry) error {
	info, err := entry.Info()
	if err != nil {
		return err
	}
	link := ""
	switch info.Mode().Type() {
	case 0, fs.ModeDir:
	case fs.ModeSymlink:
		if link, err = os.Readlink(path); err != nil {
			return err
		}
	default:
		return nil
	}
	h, err := tar.FileInfoHeader(info, link)
	if err != nil {
		return err
	}
	h.Name, h.Uname, h.Gname = name, "", ""
	if err := w.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	// A file that grows meanwhile must not break the archive.
	_, err = io.Copy(w, io.LimitReader(f, h.Size))
	return err
}
