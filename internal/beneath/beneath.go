// Package beneath dials sockets in folders that somebody else can write to as
// well, such as one that a container sees. A name in such a folder is never followed: it is
// resolved below the folder alone, by the kernel, without links of any kind, and what was
// found is used by its descriptor.
package beneath

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// ErrReplaced is something else at the place of a socket.
var ErrReplaced = errors.New("at the place of the socket is something else")

// within resolves a name below a folder and nowhere else.
const within = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS

// open opens a name below a folder. The folder's own path is the service's and is not
// followed beyond its last part.
func open(folder, name string, flags uint64) (*os.File, error) {
	at, err := unix.Open(folder, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: folder, Err: err}
	}
	defer unix.Close(at)
	fd, err := unix.Openat2(at, name, &unix.OpenHow{Flags: flags | unix.O_CLOEXEC, Resolve: within})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: filepath.Join(folder, name), Err: err}
	}
	return os.NewFile(uintptr(fd), name), nil
}

// Dial connects to a socket below a folder. ErrReplaced tells that something else is there.
// Connecting by the descriptor also lifts the limit on the length of a socket's path.
func Dial(ctx context.Context, folder, name string) (net.Conn, error) {
	file, err := open(folder, name, unix.O_PATH|unix.O_NOFOLLOW)
	if errors.Is(err, unix.ELOOP) || errors.Is(err, unix.EXDEV) {
		return nil, fmt.Errorf("%w: a link", ErrReplaced)
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	if info.Mode().Type() != fs.ModeSocket {
		return nil, fmt.Errorf("%w: %v", ErrReplaced, info.Mode().Type())
	}
	return (&net.Dialer{}).DialContext(ctx, "unix", fmt.Sprintf("/proc/self/fd/%d", file.Fd()))
}
