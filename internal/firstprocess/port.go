package firstprocess

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"domicile/internal/channel"
)

// port is one of the machine's serial ports.
type port struct {
	file  *os.File
	raw   syscall.RawConn
	until atomic.Int64 // when writing ends, in nanoseconds of the clock; 0: never
}

var _ channel.Port = (*port)(nil)

// portLimit bounds how long the kernel takes to show a port.
const portLimit = 30 * time.Second

// openPort opens a serial port by its name.
func openPort(name string) (*port, error) {
	for late := time.Now().Add(portLimit); time.Now().Before(late); time.Sleep(20 * time.Millisecond) {
		files, _ := filepath.Glob("/sys/class/virtio-ports/*/name")
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil || strings.TrimSpace(string(b)) != name {
				continue
			}
			// Not waited in by the kernel: so that it can be waited in with a limit.
			fd, err := unix.Open("/dev/"+filepath.Base(filepath.Dir(f)), unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
			if errors.Is(err, unix.ENOENT) {
				continue
			}
			if err != nil {
				return nil, fmt.Errorf("open the port %s: %w", name, err)
			}
			p := &port{file: os.NewFile(uintptr(fd), name)}
			p.raw, err = p.file.SyscallConn()
			return p, err
		}
	}
	return nil, fmt.Errorf("the port %s does not come", name)
}

func (p *port) Read(b []byte) (int, error) { return p.file.Read(b) }

// fullEvery is how often it is tried again to write to a port that is full: its driver tells
// nobody when it is no more.
const fullEvery = 500 * time.Microsecond

func (p *port) Write(b []byte) (written int, err error) {
	for written < len(b) {
		var n int
		controlErr := p.raw.Control(func(fd uintptr) { n, err = unix.Write(int(fd), b[written:]) })
		switch {
		case controlErr != nil:
			return written, controlErr
		case errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.EAGAIN):
			if until := p.until.Load(); until != 0 && time.Now().UnixNano() >= until {
				return written, os.ErrDeadlineExceeded
			}
			time.Sleep(fullEvery)
			continue
		case err != nil:
			return written, err
		}
		written += n
	}
	return written, nil
}

// SetDeadline bounds reading and writing; the zero time bounds neither.
func (p *port) SetDeadline(t time.Time) error {
	var until int64
	if !t.IsZero() {
		until = t.UnixNano()
	}
	p.until.Store(until)
	return p.file.SetReadDeadline(t)
}
