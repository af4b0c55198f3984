package postgres

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// process is a process that may be another's child. A number that was given again is never meant:
// the kernel's handle stays with the one that it was opened for.
type process struct {
	id    int
	fd    int
	ended chan struct{}
	stop  *os.File // closed: nobody waits any more
	once  sync.Once
	done  chan struct{}
}

func openProcess(id int) (*process, error) {
	fd, err := unix.PidfdOpen(id, 0)
	if err != nil {
		return nil, fmt.Errorf("look at process %d: %w", id, err)
	}
	near, far, err := os.Pipe()
	if err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("wait for process %d: %w", id, err)
	}
	p := &process{id: id, fd: fd, ended: make(chan struct{}), stop: far, done: make(chan struct{})}
	go func() {
		defer close(p.done)
		defer near.Close()
		list := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}, {Fd: int32(near.Fd()), Events: unix.POLLIN}}
		for {
			if _, err := unix.Poll(list, -1); errors.Is(err, unix.EINTR) {
				continue
			}
			if list[0].Revents != 0 {
				close(p.ended)
			}
			return
		}
	}()
	return p, nil
}

func (p *process) signal(s syscall.Signal) error {
	return unix.PidfdSendSignal(p.fd, s, nil, 0)
}

// close lets go of it; the process goes on.
func (p *process) close() {
	p.once.Do(func() {
		p.stop.Close()
		<-p.done
		unix.Close(p.fd)
	})
}
