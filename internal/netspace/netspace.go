// Package netspace makes networks of their own, in which there is nothing but a loopback and what
// the service listens at in them: whatever runs there reaches that, and nothing of this machine.
package netspace

import (
	"domicile/internal/listen"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Space is a network of its own. Programs are started in it by way of File.
type Space struct {
	File      *os.File
	Listeners []net.Listener // in it, in the order of their addresses
}

// Make makes a network and listens in it at addresses of its loopback. It needs root.
func Make(addresses ...string) (*Space, error) {
	s := &Space{}
	if err := apart(func() error { return s.make(addresses) }); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Within does something on a thread that is in a network meanwhile, such as starting a program
// there.
func Within(space *os.File, do func() error) error {
	return apart(func() error {
		if err := unix.Setns(int(space.Fd()), unix.CLONE_NEWNET); err != nil {
			return fmt.Errorf("go to another network: %w", err)
		}
		return do()
	})
}

// apart does something on a thread that goes to another network, and brings the thread back: a
// thread that ended would take with it the programs that it has started, where these are to end
// with who started them.
func apart(do func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		own, err := os.Open("/proc/thread-self/ns/net")
		if err != nil {
			runtime.UnlockOSThread()
			done <- fmt.Errorf("hold the network of this thread: %w", err)
			return
		}
		defer own.Close()
		err = do()
		if back := unix.Setns(int(own.Fd()), unix.CLONE_NEWNET); back == nil {
			runtime.UnlockOSThread() // else it ends here: nothing else is to be done in another network
		}
		done <- err
	}()
	return <-done
}

// make makes the network on this thread.
func (s *Space) make(addresses []string) error {
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return fmt.Errorf("make a network namespace: %w", err)
	}
	var err error
	if s.File, err = os.Open("/proc/thread-self/ns/net"); err != nil {
		return fmt.Errorf("hold the network namespace: %w", err)
	}
	if err := up("lo"); err != nil {
		return fmt.Errorf("start its loopback: %w", err)
	}
	for _, at := range addresses {
		l, err := net.Listen("tcp", at)
		if err != nil {
			return fmt.Errorf("listen in it at %s: %w", at, err)
		}
		s.Listeners = append(s.Listeners, l)
	}
	return nil
}

// up brings an interface up.
func up(name string) error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	r, err := unix.NewIfreq(name)
	if err != nil {
		return err
	}
	if err := unix.IoctlIfreq(s, unix.SIOCGIFFLAGS, r); err != nil {
		return err
	}
	r.SetUint16(r.Uint16() | unix.IFF_UP)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, r)
}

// Again opens the network once more, for who closes what it is given.
func (s *Space) Again() (*os.File, error) {
	fd, err := unix.FcntlInt(s.File.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("open a network namespace again: %w", err)
	}
	return os.NewFile(uintptr(fd), s.File.Name()), nil
}

// Close ends what listens in it, and leaves it: it is gone with the last program in it.
func (s *Space) Close() error {
	var errs []error
	for _, l := range s.Listeners {
		errs = append(errs, l.Close())
	}
	if s.File != nil {
		errs = append(errs, s.File.Close())
	}
	return errors.Join(errs...)
}

// joinLimit bounds how long it takes to reach what is joined.
const joinLimit = 15 * time.Second

// Join joins what comes to a listener of another network to an address of this machine, until the
// listener is closed.
func Join(l net.Listener, to string) {
	accepting := listen.Patient(l)
	for {
		near, err := accepting.Accept()
		if err != nil {
			return
		}
		go func() {
			defer near.Close()
			far, err := net.DialTimeout("tcp", to, joinLimit)
			if err != nil {
				return
			}
			defer far.Close()
			Both(far, near, near)
		}()
	}
}

// Both copies both ways until both have ended; what comes from near is read from nearReader.
func Both(far, near net.Conn, nearReader io.Reader) {
	var copies sync.WaitGroup
	copies.Go(func() { oneWay(far, nearReader) })
	copies.Go(func() { oneWay(near, far) })
	copies.Wait()
}

func oneWay(to net.Conn, from io.Reader) {
	_, _ = io.Copy(to, from)
	if half, ok := to.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
		return
	}
	_ = to.Close()
}
