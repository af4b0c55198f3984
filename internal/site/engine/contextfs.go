package engine

import (
	"context"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"github.com/tonistiigi/fsutil"
	"github.com/tonistiigi/fsutil/types"
)

// rootFS is the context of a build: the files below a folder that stays open. Links are sent
// as links and never followed; what is neither file, folder nor link is left out.
type rootFS struct{ root *os.Root }

var _ fsutil.FS = rootFS{}

// Open opens a file below the folder.
func (r rootFS) Open(name string) (io.ReadCloser, error) { return r.root.Open(name) }

// Walk walks below a folder of it.
func (r rootFS) Walk(ctx context.Context, target string, visit fs.WalkDirFunc) error {
	if target == "" || target == "/" {
		target = "."
	}
	return fs.WalkDir(r.root.FS(), filepath.ToSlash(target), func(name string, d fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			return visit(name, nil, err)
		}
		if name == "." {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return visit(name, nil, err)
		}
		stat, sent, err := r.stat(name, info)
		if err != nil {
			return visit(name, nil, err)
		}
		if !sent {
			return nil
		}
		return visit(name, &fsutil.DirEntryInfo{Stat: stat}, nil)
	})
}

func (r rootFS) stat(name string, info fs.FileInfo) (s *types.Stat, sent bool, err error) {
	s = &types.Stat{Path: filepath.FromSlash(name), ModTime: info.ModTime().UnixNano(), Mode: uint32(info.Mode())}
	if owner, ok := info.Sys().(*syscall.Stat_t); ok {
		s.Uid, s.Gid = owner.Uid, owner.Gid
	}
	switch info.Mode().Type() {
	case fs.ModeDir:
	case fs.ModeSymlink:
		s.Linkname, err = r.root.Readlink(name)
	case 0:
		s.Size = info.Size()
	default:
		return nil, false, nil
	}
	return s, true, err
}
