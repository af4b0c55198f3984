package vm

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"domicile/internal/fault"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// accelerator is what carries a machine's instructions out.
type accelerator struct {
	flag, processor string
	words           string // for people
	version         string // of QEMU
}

const (
	// firstByteLimit is how long a kernel has to print its first byte: a device that answers all
	// questions may still run nothing.
	firstByteLimit = 5 * time.Second
	kvmDevice      = "/dev/kvm"
)

// accelerator finds out, once, which one truly works.
func (m *Maker) accelerator(ctx context.Context) (a accelerator, err error) {
	err = m.turns.Take(ctx, "the accelerator", func() error {
		m.mu.Lock()
		known := m.chosen
		m.mu.Unlock()
		if known != nil {
			a = *known
			return nil
		}
		out, err := exec.CommandContext(ctx, process.Program, "--version").Output()
		if err != nil {
			return fault.Wrap(err, "no-qemu", "apt-get install --no-install-recommends qemu-system-x86 qemu-utils", "QEMU is not installed")
		}
		version, _, _ := strings.Cut(strings.TrimPrefix(string(out), "QEMU emulator version "), " ")
		a = accelerator{flag: "tcg,thread=multi,tb-size=256", processor: "max,la57=off", words: "software emulation", version: strings.TrimSpace(version)}
		fast := accelerator{flag: "kvm", processor: "host", words: "hardware acceleration", version: a.version}
		if runtime.GOARCH == "amd64" && m.works(ctx, fast) {
			a = fast
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		m.mu.Lock()
		defer m.mu.Unlock()
		m.chosen = &a
		return nil
	})
	return a, err
}

// works tells whether a kernel prints its first byte with an accelerator in time.
func (m *Maker) works(ctx context.Context, a accelerator) bool {
	if _, err := os.Stat(kvmDevice); err != nil {
		return false
	}
	folder, err := os.MkdirTemp(m.o.Folder, "try-")
	if err != nil {
		return false
	}
	defer os.RemoveAll(folder)
	ctx, cancel := context.WithTimeout(ctx, firstByteLimit)
	defer cancel()
	console := filepath.Join(folder, consoleName)
	c := exec.CommandContext(ctx, process.Program, "-machine", "pc", "-accel", a.flag, "-cpu", a.processor, "-m", "128", "-nodefaults", "-no-user-config", "-display", "none", "-no-reboot", "-net", "none",
		"-kernel", filepath.Join(m.o.Image, kernelName), "-append", "console=ttyS0 earlyprintk=ttyS0 panic=-1", "-serial", "file:"+console)
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	if err := c.Start(); err != nil {
		return false
	}
	printed := waitUntil(ctx, firstByteLimit, func() bool {
		info, err := os.Stat(console)
		return err == nil && info.Size() > 0
	})
	cancel()
	_ = c.Wait() // it was ended
	return printed
}

// Examine looks at what makes machines: QEMU, how it runs them, and the host's room.
func (m *Maker) Examine(ctx context.Context) (f machine.Facts, err error) {
	a, err := m.accelerator(ctx)
	if err != nil {
		return f, err
	}
	memory, err := hostMemory()
	if err != nil {
		return f, err
	}
	f = machine.Facts{What: fmt.Sprintf("QEMU %s, %s", a.version, a.words), Processors: runtime.NumCPU(), Memory: memory}
	var disk syscall.Statfs_t
	if err := syscall.Statfs(m.o.Folder, &disk); err == nil {
		f.DiskFree = int64(disk.Bavail) * disk.Bsize
	}
	return f, nil
}
