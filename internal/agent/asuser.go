package agent

import (
	"fmt"
	"net"
	"os"
	"runtime"
	"unsafe"

	"golang.org/x/sys/unix"
)

// asUser does something with the rights of a user, as the kernel sees them: the agent is
// root, and what a person asks for must not be done with root's rights. The user's rights
// are a thread's, so the work is done on a thread of its own, which ends with it.
func asUser[T any](a *account, do func() (T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	if os.Getuid() != 0 {
		return do() // it has that user's rights already, or could not take others
	}
	done := make(chan result, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is not used again
		var r result
		if r.err = become(a); r.err == nil {
			r.value, r.err = do()
		}
		done <- r
	}()
	r := <-done
	return r.value, r.err
}

// become gives this thread a user's rights. The calls of package syscall would change all
// threads.
func become(a *account) error {
	var groups *uint32
	if len(a.groups) > 0 {
		groups = &a.groups[0]
	}
	if _, _, e := unix.RawSyscall(unix.SYS_SETGROUPS, uintptr(len(a.groups)), uintptr(unsafe.Pointer(groups)), 0); e != 0 {
		return fmt.Errorf("take a user's groups: %w", e)
	}
	if _, _, e := unix.RawSyscall(unix.SYS_SETRESGID, uintptr(a.gid), uintptr(a.gid), uintptr(a.gid)); e != 0 {
		return fmt.Errorf("take a user's group: %w", e)
	}
	if _, _, e := unix.RawSyscall(unix.SYS_SETRESUID, uintptr(a.uid), uintptr(a.uid), uintptr(a.uid)); e != 0 {
		return fmt.Errorf("take a user's rights: %w", e)
	}
	return nil
}

// dialUnixAs connects to a socket with a user's rights.
func dialUnixAs(a *account, path string) (net.Conn, error) {
	return asUser(a, func() (net.Conn, error) {
		conn, err := dialUnix(path)
		if err != nil {
			return nil, err // and no pointer to nothing
		}
		return conn, nil
	})
}

// listenUnixAs makes a socket with a user's rights, for that user alone.
func listenUnixAs(a *account, path string) (net.Listener, error) {
	listener, err := asUser(a, func() (*net.UnixListener, error) {
		l, err := net.ListenUnix("unix", &net.UnixAddr{Net: "unix", Name: path})
		if err != nil {
			return nil, err
		}
		// Until then the usual mask keeps others from writing, and so from connecting.
		if err := os.Chmod(path, 0o600); err != nil {
			l.Close()
			return nil, err
		}
		return l, nil
	})
	if err != nil {
		return nil, err
	}
	listener.SetUnlinkOnClose(false) // that would be done as root, wherever a link leads by then
	return &userListener{listener, a, path}, nil
}

// userListener takes its socket away with the user's rights.
type userListener struct {
	*net.UnixListener
	user *account
	path string
}

// Close ends the listening and removes the socket.
func (l *userListener) Close() error {
	err := l.UnixListener.Close()
	_, _ = asUser(l.user, func() (struct{}, error) { return struct{}{}, os.Remove(l.path) }) // it may be gone
	return err
}
