package agent

import (
	"errors"
	"io"
	"os"
	"syscall"
)

// ownVolumes gives the person's user those volumes that are empty and root's: an engine makes the folder of a new
// volume as root if the image does not have that folder. A volume with files or with another owner is not changed.
func (s *Server) ownVolumes(a *account, folders []string) {
	if os.Getuid() != 0 || a.uid == 0 {
		return
	}
	for _, folder := range folders {
		if err := ownVolume(a, folder); err != nil {
			s.log.Warn("give a new volume to the person", "folder", folder, "error", err)
		}
	}
}

func ownVolume(a *account, folder string) error {
	root, err := openFirm(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	at, err := root.Open(".")
	if err != nil {
		return err
	}
	defer at.Close()
	info, err := at.Stat()
	if err != nil {
		return err
	}
	is, ok := info.Sys().(*syscall.Stat_t)
	if !ok || is.Uid != 0 || is.Gid != 0 {
		return nil
	}
	if names, err := at.Readdirnames(1); len(names) > 0 || !errors.Is(err, io.EOF) {
		return nil
	}
	return at.Chown(a.uid, a.gid)
}
