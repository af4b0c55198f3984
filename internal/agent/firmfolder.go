package agent

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"
)

// mostLinks is how many links a path may lead through, as in the kernel.
const mostLinks = 40

// openFirm opens a folder and makes what is missing of its path. Links count that root has
// made, such as those of an image; a link of anybody else is not followed: the agent is root,
// and who else writes in the workspace would have it write where they may not.
func openFirm(folder string) (*os.Root, error) {
	at, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: "/", Err: err}
	}
	defer func() { unix.Close(at) }()
	left, links := strings.Split(strings.Trim(path.Clean(folder), "/"), "/"), 0
	for len(left) > 0 {
		name := left[0]
		left = left[1:]
		if name == "" || name == "." {
			continue
		}
		next, link, err := step(at, name)
		switch {
		case err != nil:
			return nil, &fs.PathError{Op: "open", Path: folder, Err: err}
		case link == "":
			unix.Close(at)
			at = next
			continue
		}
		if links++; links > mostLinks {
			return nil, &fs.PathError{Op: "open", Path: folder, Err: unix.ELOOP}
		}
		if path.IsAbs(link) {
			top, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
			if err != nil {
				return nil, &fs.PathError{Op: "open", Path: "/", Err: err}
			}
			unix.Close(at)
			at = top
		}
		left = append(strings.Split(strings.Trim(link, "/"), "/"), left...)
	}
	return os.OpenRoot(fmt.Sprintf("/proc/self/fd/%d", at))
}

// step opens what a folder has of a name, or makes a folder there; or tells where the link of
// that name leads.
func step(at int, name string) (next int, link string, err error) {
	open := func() (int, error) { return unix.Openat(at, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0) }
	fd, err := open()
	if errors.Is(err, unix.ENOENT) {
		if err := unix.Mkdirat(at, name, 0o755); err != nil && !errors.Is(err, unix.EEXIST) {
			return 0, "", err
		}
		fd, err = open()
	}
	if err != nil {
		return 0, "", err
	}
	var is unix.Stat_t
	if err := unix.Fstat(fd, &is); err != nil {
		unix.Close(fd)
		return 0, "", err
	}
	switch is.Mode & unix.S_IFMT {
	case unix.S_IFDIR:
		return fd, "", nil
	case unix.S_IFLNK:
		defer unix.Close(fd)
		if is.Uid != 0 && is.Uid != uint32(os.Geteuid()) {
			return 0, "", fmt.Errorf("%s is a link that belongs to the user %d, which is not followed", name, is.Uid)
		}
		to := make([]byte, unix.PathMax)
		n, err := unix.Readlinkat(fd, "", to)
		if err == nil && n == 0 {
			err = unix.ENOENT
		}
		return 0, string(to[:n]), err
	}
	unix.Close(fd)
	return 0, "", unix.ENOTDIR
}
