package agent

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

// doors are the sockets inside at which whoever comes is brought to the service.
type doors struct {
	mu   sync.Mutex
	open map[string]*door // by the socket's path
}

// door is one of them. Several services may hold it, of which one answers; it closes when the last
// of them leaves.
type door struct {
	listener net.Listener
	holders  []connection.Conn
}

// hold opens a door for a connection, or has it hold one that is open.
func (d *doors) hold(conn connection.Conn, socket string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if at := d.open[socket]; at != nil {
		if !slices.Contains(at.holders, conn) {
			at.holders = append(at.holders, conn)
		}
		return nil
	}
	listener, err := listenForAll(socket)
	if err != nil {
		return err
	}
	if d.open == nil {
		d.open = map[string]*door{}
	}
	at := &door{listener: listener, holders: []connection.Conn{conn}}
	d.open[socket] = at
	go d.accept(at)
	return nil
}

// listenForAll listens at a socket that everybody inside may use. What an earlier agent left there
// is replaced.
func listenForAll(socket string) (net.Listener, error) {
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
	if err := openToAll(int(folder.Fd()), name); err != nil {
		listener.Close()
		return nil, err
	}
	return listener, nil
}

// openToAll lets everybody use a file of a folder. A link is not followed; and not every container
// may use the call that changes a mode without following.
func openToAll(folder int, name string) error {
	file, err := unix.Openat(folder, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(file)
	return unix.Chmod(fmt.Sprintf("/proc/self/fd/%d", file), 0o666)
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
	for {
		conn, err := at.listener.Accept()
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
		channel, requests, err := holder.OpenChannel(wire.Visit, nil)
		if err != nil {
			continue
		}
		go connection.Discard(requests)
		join(channel, conn)
		return
	}
	conn.Close()
}
