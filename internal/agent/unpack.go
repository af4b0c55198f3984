package agent

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"syscall"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// unpack takes a tar archive and writes its files below a folder, owned by the session's
// user. Nothing in the archive can lead out of that folder.
func (s *Server) unpack(new connection.NewChannel) {
	var q wire.UnpackRequest
	if err := json.Unmarshal(new.ExtraData(), &q); err != nil || !path.IsAbs(q.Target) {
		_ = new.Reject(ssh.ConnectionFailed, "the request names no absolute folder")
		return
	}
	p, err := s.current()
	if err != nil {
		_ = new.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	channel, requests, err := new.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	go connection.Discard(requests)
	status := uint32(0)
	if err := unpackTo(q.Target, p.account, channel); err != nil {
		status = 1
		if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
			status = 28 // ENOSPC, told apart for its remedy
		}
		fmt.Fprint(channel.Stderr(), err.Error())
	}
	// The sender finishes, and reads the answer: an archive goes on behind its end, with nothing (git archive
	// fills it up to 10 kB).
	_, _ = io.Copy(io.Discard, channel)
	_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
}

func unpackTo(target string, owner *account, archive io.Reader) error {
	root, err := openFirm(target)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.Chown(".", owner.uid, owner.gid); err != nil {
		return err
	}
	for r := tar.NewReader(archive); ; {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the archive: %w", err)
		}
		if err := unpackEntry(root, owner, h, r); err != nil {
			return fmt.Errorf("write %s: %w", h.Name, err)
		}
	}
}

func unpackEntry(root *os.Root, owner *account, h *tar.Header, content io.Reader) error {
	name := path.Clean(h.Name)
	if name == "." {
		return nil
	}
	mode := fs.FileMode(h.Mode).Perm()
	switch h.Typeflag {
	case tar.TypeDir:
		if err := root.Mkdir(name, mode); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	case tar.TypeReg:
		_ = root.Remove(name)
		f, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, mode)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, content)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return err
		}
		if err := root.Chtimes(name, h.ModTime, h.ModTime); err != nil {
			return err
		}
	case tar.TypeSymlink:
		_ = root.Remove(name)
		if err := root.Symlink(h.Linkname, name); err != nil {
			return err
		}
	case tar.TypeLink:
		_ = root.Remove(name)
		if err := root.Link(path.Clean(h.Linkname), name); err != nil {
			return err
		}
	default:
		return nil // devices and the like have no place in a repository
	}
	return root.Lchown(name, owner.uid, owner.gid)
}
