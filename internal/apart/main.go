package apart

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"runtime/debug"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"domicile/internal/compose"
)

// The bounds of the process.
const (
	maxAddressSpace = 4 << 30
	maxHeap         = 512 << 20
	maxOpen         = 32
)

// Left is what the process is called when it has left everything behind.
const Left = Name + "-left"

// Main is the whole process. Called as Name it leaves behind what it can reach, and begins
// anew as Left: what a thread has given up, only a new program has given up whole.
func Main() int {
	if os.Args[0] == Name {
		if err := leave(Left); err != nil {
			fmt.Fprintln(os.Stderr, "cannot be kept apart:", err)
		}
		return 1
	}
	debug.SetMemoryLimit(maxHeap)
	in, out := json.NewDecoder(os.Stdin), json.NewEncoder(os.Stdout)
	var q request
	if err := in.Decode(&q); err != nil {
		return 0 // it was not needed
	}
	if q.Warm {
		warm()
		q = request{}
		if err := out.Encode(ask{Ready: true}); err != nil {
			return 1
		}
		if err := in.Decode(&q); err != nil {
			return 0
		}
	}
	r := compose.Reading{}
	if len(q.Paths) > 0 {
		r = compose.Read(context.Background(), &asked{in: in, out: out, known: map[string]file{}}, q.Paths, nil)
	}
	if err := out.Encode(ask{Done: &r}); err != nil {
		return 1
	}
	return 0
}

// warm reads a file of its own, for what the first reading prepares takes most of its time.
func warm() {
	own := &asked{known: map[string]file{"compose.yaml": {Bytes: []byte("services: { work: { image: base } }\n")}}}
	compose.Read(context.Background(), own, []string{"compose.yaml"}, nil)
}

// leave gives up the file system, the rights and the greed of the process, and begins anew
// under a name. It returns only where it fails.
func leave(name string) error {
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
	for what, limit := range map[int]uint64{unix.RLIMIT_AS: maxAddressSpace, unix.RLIMIT_NOFILE: maxOpen, unix.RLIMIT_FSIZE: 64 << 20, unix.RLIMIT_CORE: 0, unix.RLIMIT_CPU: uint64(readLimit / time.Second)} {
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

// asked is the file system of the repository: each file is asked for.
type asked struct {
	in    *json.Decoder
	out   *json.Encoder
	known map[string]file
}

// Open asks for a file.
func (a *asked) Open(name string) (fs.File, error) {
	f, known := a.known[name]
	switch {
	case !known && a.out == nil:
		f.None = true
	case !known:
		if err := a.out.Encode(ask{Open: name}); err != nil {
			return nil, err
		}
		if err := a.in.Decode(&f); err != nil {
			return nil, err
		}
		a.known[name] = f
	}
	switch {
	case f.None:
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	case f.Wrong != "":
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New(f.Wrong)}
	}
	return &given{Reader: bytes.NewReader(f.Bytes), name: path.Base(name)}, nil
}

// given is a file that was given.
type given struct {
	*bytes.Reader
	name string
}

func (g *given) Close() error               { return nil }
func (g *given) Stat() (fs.FileInfo, error) { return g, nil }
func (g *given) Name() string               { return g.name }
func (g *given) Mode() fs.FileMode          { return 0o444 }
func (g *given) ModTime() time.Time         { return time.Time{} }
func (g *given) IsDir() bool                { return false }
func (g *given) Sys() any                   { return nil }

var _ io.Reader = (*given)(nil)
