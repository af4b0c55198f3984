package agent

import (
	"fmt"
	"os"
	"sync"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// master is the end of a terminal by which one types and reads (pty(7)). While somebody else reads it, the
// agent still has it but is not woken by what happens there: a key would wait for that.
type master struct {
	mu   sync.RWMutex
	fd   int      // -1: it is closed
	file *os.File // another descriptor of the same, by which one waits; nil: nobody does here
}

// openPty opens a terminal.
func openPty() (m *master, slave *os.File, err error) {
	opened, slave, err := pty.Open()
	if err != nil {
		return nil, nil, err
	}
	defer opened.Close()
	fd, err := unix.FcntlInt(opened.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err == nil {
		err = unix.SetNonblock(fd, true) // by which a file knows what it can do
		m = &master{fd: fd}
		if err == nil {
			err = m.wake()
		}
	}
	if err != nil {
		if m != nil {
			m.Close()
		}
		slave.Close()
		return nil, nil, err
	}
	return m, slave, nil
}

// wake has the agent wait for what happens from now on.
func (m *master) wake() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	fd, err := unix.FcntlInt(uintptr(m.fd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("wait for a terminal: %w", err)
	}
	m.file = os.NewFile(uintptr(fd), "/dev/ptmx")
	return nil
}

// sleep ends that. Nobody may be waiting.
func (m *master) sleep() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.file != nil {
		m.file.Close()
		m.file = nil
	}
}

// Close closes the terminal: what runs in it is told.
func (m *master) Close() {
	m.sleep()
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.fd >= 0 {
		unix.Close(m.fd)
		m.fd = -1
	}
}

func (m *master) awake() (*os.File, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	if m.file == nil {
		return nil, os.ErrClosed
	}
	return m.file, nil
}

// Read reads what the terminal prints.
func (m *master) Read(b []byte) (int, error) {
	f, err := m.awake()
	if err != nil {
		return 0, err
	}
	return f.Read(b)
}

// Write types.
func (m *master) Write(b []byte) (int, error) {
	f, err := m.awake()
	if err != nil {
		return 0, err
	}
	return f.Write(b)
}

// readBefore has Read wait no longer than that; the zero time is for ever.
func (m *master) readBefore(limit time.Time) {
	if f, err := m.awake(); err == nil {
		_ = f.SetReadDeadline(limit)
	}
}

// control calls f with the terminal's descriptor, unless it is closed: the program may end, and the
// terminal with it, while somebody asks.
func (m *master) control(f func(fd int)) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	if m.fd >= 0 {
		f(m.fd)
	}
}
