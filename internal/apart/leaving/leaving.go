// Package leaving is the first thing that a process which is to be kept apart does: it gives
// up the host's files, its rights and its greed, and begins anew. What a thread has given
// up, only a new program has given up whole.
//
// It does so before the packages of the program that read texts prepare themselves, for
// they take longer than all the rest, and would do it twice. So it uses nothing but the
// standard library and golang.org/x/sys/unix, and acts when it is initialised: packages that
// can be, are initialised in the order of their paths.
package leaving

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Name is what a process is called that has everything still, Left what it is called when it
// has left it behind.
const (
	Name = "domicile-apart"
	Left = Name + "-left"
)

// Bounds of the process.
const (
	maxAddressSpace = 4 << 30
	maxOpen         = 32
	// MaxTime bounds its time of the processor.
	MaxTime = 20 * time.Second
)

func init() {
	if os.Args[0] == Name {
		fmt.Fprintln(os.Stderr, "cannot be kept apart:", Leave(Left))
		os.Exit(1)
	}
}

// Leave gives up the file system, the rights and the greed of the process, and begins anew
// under a name. It returns only where it fails.
func Leave(name string) error {
	runtime.LockOSThread()
	me, err := unix.Open("/proc/self/exe", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("open its own program: %w", err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("part from the host's mounts: %w", err)
	}
	// Any folder will do that is on every system: an empty file system takes its place.
	if err := unix.Mount("none", "/tmp", "tmpfs", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "size=64m,nr_inodes=4096,mode=0700"); err != nil {
		return fmt.Errorf("make an empty file system: %w", err)
	}
	if err := unix.Chdir("/tmp"); err != nil {
		return fmt.Errorf("go there: %w", err)
	}
	if err := unix.Mkdir("tmp", 0o700); err != nil {
		return fmt.Errorf("make a folder in it: %w", err)
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("make it the root: %w", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return fmt.Errorf("leave the host's files: %w", err)
	}
	if err := unix.Chdir("/"); err != nil {
		return fmt.Errorf("go to the root: %w", err)
	}
	for what, limit := range map[int]uint64{unix.RLIMIT_AS: maxAddressSpace, unix.RLIMIT_NOFILE: maxOpen, unix.RLIMIT_FSIZE: 64 << 20, unix.RLIMIT_CORE: 0, unix.RLIMIT_CPU: uint64(MaxTime / time.Second)} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: limit, Max: limit}); err != nil {
			return fmt.Errorf("bound itself: %w", err)
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("renounce new rights: %w", err)
	}
	// A user namespace gave it every right within it. A program has at most those that
	// its thread was bound to when it began.
	for c := range uintptr(unix.CAP_LAST_CAP + 1) {
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) {
			return fmt.Errorf("renounce capability %d: %w", c, err)
		}
	}
	return begins(me, name)
}

// begins runs a program that is open in place of this one, without arguments and
// environment.
func begins(program int, name string) error {
	path, err := unix.BytePtrFromString("")
	if err != nil {
		return err
	}
	arg, err := unix.BytePtrFromString(name)
	if err != nil {
		return err
	}
	args, env := []*byte{arg, nil}, []*byte{nil}
	_, _, e := unix.Syscall6(unix.SYS_EXECVEAT, uintptr(program), uintptr(unsafe.Pointer(path)), uintptr(unsafe.Pointer(&args[0])), uintptr(unsafe.Pointer(&env[0])), unix.AT_EMPTY_PATH, 0)
	return fmt.Errorf("begin anew: %w", e)
}
