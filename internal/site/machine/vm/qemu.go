package vm

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/netspace"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// The files that machines begin with.
const (
	rootName   = "root.qcow2"
	kernelName = "kernel"
	initrdName = "initrd"
	withScreen = "screen-" // begins the names of the kernel for machines that have one
)

// begins tells the files that a machine of a shape begins with.
func begins(shape machine.Shape) (root, kernel, initrd string) {
	if shape.Screen != "" {
		return rootName, withScreen + kernelName, withScreen + initrdName
	}
	return rootName, kernelName, initrdName
}

// outputName is the file in which stands what QEMU says.
const outputName = "output"

// owner is who a machine's process is when it has opened its files: no account, the owner of the
// machine's disks and of nothing else.
func owner(folder string) int {
	h := fnv.New32()
	_, _ = h.Write([]byte(filepath.Base(folder)))
	return firstOwner + int(h.Sum32()%owners)
}

// The numbers of owners, which no host gives to its accounts.
const (
	firstOwner = 1_700_000_000
	owners     = 300_000_000
)

// How the memory of a machine is there.
type memory string

const (
	ownMemory memory = ""         // the process's own
	template  memory = "template" // a file that becomes a template
	clone     memory = "clone"    // a template's file, which is changed for oneself alone
)

// launching is how a machine is run.
type launching struct {
	folder   string
	shape    machine.Shape
	disks    disks
	memory   memory
	ram      string   // the file of a template's memory
	outlet   bool     // it has the way out that a workspace has
	incoming *os.File // it does not boot: its state comes from here
}

// incomingFD is the number of the file that a machine's state comes from, in its process.
const incomingFD = 3

// arguments are those of QEMU, which works in the machine's folder: it opens its disks again when
// it is nobody any more, and then the folders above are closed to it. Two machines of one template
// must have the same devices.
func (m *Maker) arguments(p launching, a accelerator) []string {
	size := strconv.FormatInt(p.shape.Memory>>20, 10) + "M"
	ram := "memory-backend-ram,id=ram0,size=" + size
	switch p.memory {
	case template:
		ram = "memory-backend-file,id=ram0,share=on,size=" + size + ",mem-path=" + p.ram
	case clone:
		ram = "memory-backend-file,id=ram0,share=off,size=" + size + ",mem-path=" + p.ram
	}
	_, kernel, initrd := begins(p.shape)
	args := []string{"-name", "domicile-" + filepath.Base(p.folder), "-machine", "pc,memory-backend=ram0", "-accel", a.flag, "-cpu", a.processor, "-smp", strconv.Itoa(p.shape.Processors), "-m", size, "-object", ram,
		"-nodefaults", "-no-user-config", "-no-reboot", "-pidfile", process.NumberFile,
		"-runas", fmt.Sprintf("%d:%[1]d", owner(p.folder)), "-sandbox", "on,obsolete=deny,spawn=deny,resourcecontrol=deny",
		"-kernel", filepath.Join(m.o.Image, kernel), "-initrd", filepath.Join(m.o.Image, initrd),
		"-append", "console=ttyS0 quiet loglevel=5 panic=-1 mitigations=off nokaslr tsc=reliable no_timer_check random.trust_cpu=on vt.global_cursor_default=0",
		// What a machine prints is kept in memory, and only its end: it may print for ever.
		"-chardev", fmt.Sprintf("ringbuf,id=%s,size=%d", consoleName, consoleSize), "-serial", "chardev:" + consoleName,
		"-drive", "if=none,id=d0,format=qcow2,discard=unmap,file=" + diskName, "-device", "virtio-blk-pci,drive=d0",
		"-drive", "if=none,id=d1,format=qcow2,discard=unmap,file=" + dataName, "-device", "virtio-blk-pci,drive=d1",
		"-netdev", "user,id=n0", "-device", "virtio-net-pci,netdev=n0,romfile=",
		"-device", "virtio-rng-pci", "-device", "virtio-serial-pci"}
	for i, port := range [][2]string{{channel.ControlPort, controlName}, {channel.DataPort, dataPort}} {
		args = append(args, "-chardev", fmt.Sprintf("socket,id=c%d,server=on,wait=off,path=%s", i, port[1]), "-device", fmt.Sprintf("virtserialport,chardev=c%d,name=%s", i, port[0]))
	}
	args = append(args, screenOf(p.shape.Screen)...)
	args = append(args, "-qmp", "unix:"+monitorName+",server=on,wait=off")
	if p.incoming != nil {
		args = append(args, "-incoming", "defer")
	}
	return args
}

// consoleSize is how much is kept of what a machine prints on its console, in bytes.
const consoleSize = 64 << 10

// launchLimit bounds how long QEMU takes to answer.
const launchLimit = 20 * time.Second

// launch starts QEMU in a session and a network of its own, and waits until it answers.
func (m *Maker) launch(ctx context.Context, p launching, a accelerator) error {
	if err := p.disks.judge(p.folder); err != nil {
		return err
	}
	for _, name := range []string{monitorName, controlName, dataPort, screenName, process.NumberFile} {
		if err := os.Remove(filepath.Join(p.folder, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("clear the folder of a machine: %w", err)
		}
	}
	output, err := os.Create(filepath.Join(p.folder, outputName))
	if err != nil {
		return fmt.Errorf("open the output of a machine: %w", err)
	}
	defer output.Close()
	c := exec.Command(process.Program, m.arguments(p, a)...) // it outlives ctx and the service
	c.Stdout, c.Stderr, c.Dir = output, output, p.folder
	if p.incoming != nil {
		c.ExtraFiles = []*os.File{p.incoming}
	}
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := m.startApart(ctx, p, c); err != nil {
		return fault.Wrap(err, "no-qemu", "apt-get install --no-install-recommends qemu-system-x86 qemu-utils", "QEMU does not start")
	}
	over := make(chan struct{})
	m.processes.Go(func() {
		_ = c.Wait() // its output says why
		close(over)
	})
	ended := func() bool {
		select {
		case <-over:
			return true
		default:
			return false
		}
	}
	if waitUntil(ctx, launchLimit, func() bool { return ended() || listens(p.folder) }) && !ended() {
		return nil
	}
	_ = c.Process.Kill()
	said, _ := os.ReadFile(filepath.Join(p.folder, outputName))
	if err := ctx.Err(); err != nil {
		return err
	}
	return fault.New("machine-not-started", "see what QEMU says", "QEMU does not start: %s", strings.TrimSpace(string(said[max(0, len(said)-mostSaid):])))
}

// startApart starts a machine's process in a network that is not the host's: what QEMU gives the
// machine as its network leads there, and not to what listens on this host.
func (m *Maker) startApart(ctx context.Context, p launching, c *exec.Cmd) error {
	var space *os.File
	closed := false // what passes: another look at the engine may find it
	if p.outlet && m.o.Outlet != nil {
		var err error
		if space, err = m.o.Outlet(ctx, filepath.Base(p.folder)); err != nil && ctx.Err() == nil {
			m.o.Say("the machine of %s has no way out: %v", filepath.Base(p.folder), err)
			closed = fault.IsTransient(err)
		} else if err != nil {
			return err
		}
	}
	if err := noteClosed(p.folder, closed); err != nil {
		return err
	}
	if space == nil {
		c.SysProcAttr.Cloneflags = syscall.CLONE_NEWNET
		return c.Start()
	}
	defer space.Close()
	return netspace.Within(space, c.Start)
}

// noteClosed notes with a machine whether it is started without a way out that it could have later.
func noteClosed(folder string, closed bool) error {
	name := filepath.Join(folder, closedName)
	if closed {
		return os.WriteFile(name, nil, 0o600)
	}
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// listens tells whether the monitor of a machine can be reached.
func listens(folder string) bool {
	conn, err := net.DialTimeout("unix", filepath.Join(folder, monitorName), time.Second)
	if err == nil {
		conn.Close()
	}
	return err == nil
}
