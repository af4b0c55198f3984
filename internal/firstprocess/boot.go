// Package firstprocess is the first process of a virtual machine that holds a workspace: it
// loads what the kernel lacks, puts the root file system in place, brings the network up, starts
// the container engine, and serves the channel by which the machine's host reaches it. Nothing
// else runs there but the engine and what it starts.
package firstprocess

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

const (
	rootDisk = "/dev/vda"
	// dataDisk is where the engine keeps its data.
	dataDisk   = "/dev/vdb"
	dataFolder = "/var/lib/docker"
)

// Run never returns: a machine without its first process is no machine. What goes wrong is told
// on the machine's console.
func Run() {
	if err := boot(); err != nil {
		say("%v", err)
		halt()
	}
	go reap()
	go keepEngine()
	s := newServer()
	go s.home.run()
	if err := s.serve(); err != nil {
		say("%v", err)
	}
	halt()
}

// say writes a line to the machine's console.
func say(format string, args ...any) {
	f, err := os.OpenFile("/dev/kmsg", os.O_WRONLY, 0)
	if err != nil {
		return
	}
	defer f.Close()
	_, _ = fmt.Fprintf(f, "<4>machine: "+format+"\n", args...)
}

// halt turns the machine off.
func halt() {
	unix.Sync()
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
	select {}
}

// mounting is one file system to mount.
type mounting struct {
	source, target, kind, options string
	flags                         uintptr
}

func mount(list ...mounting) error {
	for _, m := range list {
		if err := os.MkdirAll(m.target, 0o755); err != nil {
			return fmt.Errorf("make the folder %s: %w", m.target, err)
		}
		if err := unix.Mount(m.source, m.target, m.kind, m.flags, m.options); err != nil {
			return fmt.Errorf("mount %s: %w", m.target, err)
		}
	}
	return nil
}

func boot() error {
	if err := mount(mounting{"proc", "/proc", "proc", "", 0}, mounting{"dev", "/dev", "devtmpfs", "", 0}, mounting{"sysfs", "/sys", "sysfs", "", 0}); err != nil {
		return err
	}
	say("loading modules")
	later, err := loadModules()
	if err != nil {
		return err
	}
	if err := waitFor(rootDisk); err != nil {
		return err
	}
	for _, name := range later {
		load(name)
	}
	if err := mount(mounting{rootDisk, "/newroot", "ext4", "", unix.MS_NOATIME}); err != nil {
		return err
	}
	for _, folder := range []string{"/proc", "/dev", "/sys"} {
		if err := mount(mounting{folder, "/newroot" + folder, "", "", unix.MS_MOVE}); err != nil {
			return err
		}
	}
	if err := errors.Join(os.Chdir("/newroot"), unix.Mount("/newroot", "/", "", unix.MS_MOVE, ""), unix.Chroot("."), os.Chdir("/")); err != nil {
		return fmt.Errorf("change to the root file system: %w", err)
	}
	if err := mount(mounting{"devpts", "/dev/pts", "devpts", "gid=5,mode=620,ptmxmode=666", 0}, mounting{"shm", "/dev/shm", "tmpfs", "", unix.MS_NOSUID | unix.MS_NODEV}, mounting{"mqueue", "/dev/mqueue", "mqueue", "", 0},
		mounting{"run", "/run", "tmpfs", "mode=755", unix.MS_NOSUID | unix.MS_NODEV}, mounting{"tmp", "/tmp", "tmpfs", "mode=1777", unix.MS_NOSUID | unix.MS_NODEV}, mounting{"cgroup", "/sys/fs/cgroup", "cgroup2", "nsdelegate", 0}); err != nil {
		return err
	}
	if _, err := os.Stat(dataDisk); err == nil {
		if err := mount(mounting{dataDisk, dataFolder, "ext4", "", unix.MS_NOATIME}); err != nil {
			return err
		}
	}
	for name, value := range map[string]string{"PATH": "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME": "/root"} {
		if err := os.Setenv(name, value); err != nil {
			return err
		}
	}
	if err := errors.Join(unix.Sethostname([]byte("machine")), os.WriteFile("/proc/sys/net/ipv4/ip_forward", []byte("1"), 0)); err != nil {
		return err
	}
	if err := network(); err != nil {
		return err
	}
	if err := identifier(); err != nil { // whoever is root here may have put something in its way
		say("%v", err)
	}
	openScreen()
	return grow()
}

// identifierFile is in memory: a machine that has just been cloned writes it in no time.
const identifierFile = "/run/machine-id"

// identifier makes the place where the machine's identifier is kept, and the link by which it is
// known. It has none until it is woken.
func identifier() error {
	const known = "/etc/machine-id"
	if err := os.Remove(known); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove the identifier that the machine began with: %w", err)
	}
	if err := errors.Join(os.WriteFile(identifierFile, nil, 0o444), os.Symlink(identifierFile, known)); err != nil {
		return fmt.Errorf("make the place of the machine's identifier: %w", err)
	}
	return nil
}

// openScreen lets everybody in the machine use its screen, and what points and types at it: the
// machine is one workspace's.
func openScreen() {
	for _, pattern := range []string{"/dev/fb0", "/dev/dri/card*", "/dev/input/event*"} {
		files, _ := filepath.Glob(pattern)
		for _, file := range files {
			if err := os.Chmod(file, 0o666); err != nil {
				say("open %s to everybody: %v", file, err)
			}
		}
	}
}

// grow has the engine's data take all of its disk: what it began with may be smaller.
func grow() error {
	disk, err := os.ReadFile("/sys/class/block/" + filepath.Base(dataDisk) + "/size") // in 512 bytes
	if err != nil {
		return nil // there is none
	}
	var sectors int64
	var has unix.Statfs_t
	if _, err := fmt.Sscan(string(disk), &sectors); err != nil {
		return fmt.Errorf("read the size of %s: %w", dataDisk, err)
	}
	if err := unix.Statfs(dataFolder, &has); err != nil {
		return fmt.Errorf("look at %s: %w", dataFolder, err)
	}
	if all := sectors * 512; all-int64(has.Blocks)*has.Bsize < all/8 { // what it needs for itself
		return nil
	}
	if out, err := exec.Command("resize2fs", dataDisk).CombinedOutput(); err != nil {
		return fmt.Errorf("have the engine's data take all of its disk: %w: %s", err, out)
	}
	return nil
}

// loadModules loads those that the root file system's disk needs, and gives the others.
func loadModules() (later []string, err error) {
	f, err := os.Open("/modules/order")
	if err != nil {
		return nil, fmt.Errorf("read the order of the modules: %w", err)
	}
	defer f.Close()
	early := true
	for lines := bufio.NewScanner(f); lines.Scan(); {
		name := lines.Text()
		if name == "--" {
			early = false
		} else if early {
			load(name)
		} else {
			later = append(later, name)
		}
	}
	return later, nil
}

// load loads a module. One that cannot be loaded is told: what needs it fails by name.
func load(name string) {
	f, err := os.Open(filepath.Join("/modules", filepath.Base(name)))
	if err == nil {
		err = unix.FinitModule(int(f.Fd()), "", 0)
		f.Close()
	}
	if err != nil && !errors.Is(err, unix.EEXIST) {
		say("load the module %s: %v", name, err)
	}
}

// waitFor waits until a device is there.
func waitFor(name string) error {
	for range 3000 {
		if _, err := os.Stat(name); err == nil {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("the disk %s does not come", name)
}

// The network is the host's own for this machine: it gives these addresses to each.
func network() error {
	for _, command := range []string{"ip link set lo up", "ip addr add 10.0.2.15/24 dev eth0", "ip link set eth0 up", "ip route add default via 10.0.2.2"} {
		words := strings.Fields(command)
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", command, err, out)
		}
	}
	return os.WriteFile("/etc/resolv.conf", []byte("nameserver 10.0.2.3\n"), 0o644)
}

// reapEvery is how often processes are looked for that ended and that nobody waits for.
const reapEvery = 30 * time.Second

// reap takes the processes that were left to the first one and have ended. Those that it started
// itself are waited for where they were started: they end seldom, and who waits is there.
func reap() {
	for {
		time.Sleep(reapEvery)
		list, _ := filepath.Glob("/proc/[0-9]*/stat")
		for _, name := range list {
			b, err := os.ReadFile(name)
			if err != nil {
				continue
			}
			_, behind, _ := strings.Cut(string(b), ") ") // the program's name may have anything in it
			var state string
			var pid, parent int
			if _, err := fmt.Sscan(behind, &state, &parent); err != nil || state != "Z" || parent != 1 {
				continue
			}
			if _, err := fmt.Sscan(filepath.Base(filepath.Dir(name)), &pid); err == nil {
				_, _ = unix.Wait4(pid, nil, unix.WNOHANG, nil)
			}
		}
	}
}
