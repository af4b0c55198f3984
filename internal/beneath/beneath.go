// Package beneath dials and serves sockets in folders that somebody else can write to as
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

// Listen listens on a socket in a folder, in place of one that is there, with a mode. The
// folder is held open meanwhile: it cannot become another one.
func Listen(folder, name string, mode fs.FileMode) (net.Listener, error) {
	held, err := open(folder, ".", unix.O_PATH|unix.O_DIRECTORY)
	if err != nil {
		return nil, err
	}
	defer held.Close()
	at := int(held.Fd())
	if err := unix.Unlinkat(at, name, 0); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("remove the earlier socket: %w", err)
	}
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Net: "unix", Name: fmt.Sprintf("/proc/self/fd/%d/%s", at, name)})
	if err != nil {
		return nil, err
	}
	listener.SetUnlinkOnClose(false)
	file, err := open(folder, name, unix.O_PATH|unix.O_NOFOLLOW)
	if err == nil {
		defer file.Close()
		err = unix.Chmod(fmt.Sprintf("/proc/self/fd/%d", file.Fd()), uint32(mode.Perm()))
	}
	if err != nil {
		listener.Close()
		return nil, fmt.Errorf("open the socket to its users: %w", err)
	}
	return listener, nil
}
