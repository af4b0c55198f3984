package agent

import (
	"domicile/internal/listen"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"domicile/internal/connection"
)

// doors are the sockets inside at which whoever comes is brought to the service, or to an usher.
type doors struct {
	mu   sync.Mutex
	open map[string]*door // by the socket's path
}

// door is one of them. Several may hold it, of which one answers; it closes when the last of them
// leaves.
type door struct {
	socket   string
	visit    string   // the kind of channel that is opened for each who comes
	owner    *account // who may come; nil: everybody inside
	listener net.Listener
	holders  []connection.Conn
}

// hold opens a door for a connection, or has it hold one that is open.
func (d *doors) hold(conn connection.Conn, wanted door) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if at := d.open[wanted.socket]; at != nil {
		if !slices.Contains(at.holders, conn) {
			at.holders = append(at.holders, conn)
		}
		return nil
	}
	listener, err := listenFor(wanted.owner, wanted.socket)
	if err != nil {
		return err
	}
	if d.open == nil {
		d.open = map[string]*door{}
	}
	wanted.listener, wanted.holders = listener, []connection.Conn{conn}
	d.open[wanted.socket] = &wanted
	go d.accept(&wanted)
	return nil
}

// listenFor listens at a socket that one user may use, or everybody inside. What an earlier agent left
// there is replaced.
func listenFor(owner *account, socket string) (net.Listener, error) {
	root, err := openFirm(filepath.Dir(socket))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	name := filepath.Base(socket)
	if err := root.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	folder, err := root.Open(".")
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Net: "unix", Name: fmt.Sprintf("/proc/self/fd/%d/%s", folder.Fd(), name)})
	if err != nil {
		return nil, err
	}
	listener.SetUnlinkOnClose(false) // its path was for this moment; one that is left is refused, and replaced
	if err := openTo(owner, int(folder.Fd()), name); err != nil {
		listener.Close()
		return nil, err
	}
	return listener, nil
}

// openTo lets one user, or everybody, use a file of a folder. A link is not followed; and not every
// container may use the call that changes a mode without following.
func openTo(owner *account, folder int, name string) error {
	file, err := unix.Openat(folder, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(file)
	path := fmt.Sprintf("/proc/self/fd/%d", file)
	if owner == nil {
		return unix.Chmod(path, 0o666)
	}
	if err := unix.Chmod(path, 0o600); err != nil || os.Getuid() != 0 {
		return err
	}
	return unix.Chown(path, owner.uid, owner.gid)
}

// leave lets go of all that a connection held.
func (d *doors) leave(conn connection.Conn) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for socket, at := range d.open {
		at.holders = slices.DeleteFunc(at.holders, func(c connection.Conn) bool { return c == conn })
		if len(at.holders) == 0 {
			at.listener.Close()
			delete(d.open, socket)
		}
	}
}

func (d *doors) accept(at *door) {
	accepting := listen.Patient(at.listener)
	for {
		conn, err := accepting.Accept()
		if err != nil {
			return
		}
		go d.visit(at, conn)
	}
}

// visit brings a visitor to who holds the door last and takes them.
func (d *doors) visit(at *door, conn net.Conn) {
	d.mu.Lock()
	holders := slices.Clone(at.holders)
	d.mu.Unlock()
	for _, holder := range slices.Backward(holders) {
		channel, requests, err := holder.OpenChannel(at.visit, nil)
		if err != nil {
			continue
		}
		go connection.Discard(requests)
		join(channel, conn)
		return
	}
	conn.Close()
}
