// Package apart reads untrusted text in a process that has nothing: a user of its own
// without rights, an empty file system, no network, and bounds of time and memory. A text
// that gets the better of the library that reads it finds nothing there.
//
// The process is this program itself, started again as Main; each is used for one reading,
// and one is kept ready so that nobody waits for its start.
package apart

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"

	"domicile/internal/compose"
)

// Name is what such a process is called: the program that starts as this calls Main.
const Name = "domicile-apart"

const (
	// readLimit bounds one reading.
	readLimit = 20 * time.Second
	// maxFile bounds a file that is given to it, in bytes.
	maxFile = 1 << 20
	// mostFiles bounds how many it may ask for.
	mostFiles = 1000
	// kept is how many wait for work.
	kept = 2
)

// request is what is to be read, or the wish that the process prepares itself for that.
type request struct {
	Warm  bool     `json:"warm,omitempty"`
	Paths []string `json:"paths"`
}

// ask is what the process says: that it is prepared, which file it wants, or what it has
// read.
type ask struct {
	Ready bool             `json:"ready,omitempty"`
	Open  string           `json:"open,omitempty"`
	Done  *compose.Reading `json:"done,omitempty"`
}

// file answers what it wants.
type file struct {
	Bytes []byte `json:"bytes,omitempty"`
	Wrong string `json:"wrong,omitempty"`
	None  bool   `json:"none,omitempty"` // there is no such file
}

// Readers are the processes that wait for work.
type Readers struct {
	mu    sync.Mutex
	spare []*process
	ended bool
}

// process is one of them.
type process struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  *bufio.Reader
	from *json.Decoder
}

// Start starts the first ones, and tells why this machine cannot keep them apart.
func Start() (*Readers, error) {
	r := &Readers{}
	p, err := begin()
	if err != nil {
		return nil, err
	}
	// The first one proves that it gets as far as to ask.
	if _, err := p.read(context.Background(), noFiles{}, nil); err != nil {
		p.end()
		return nil, err
	}
	p.end()
	r.refill()
	return r, nil
}

// Close ends those that wait.
func (r *Readers) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.ended = true
	for _, p := range r.spare {
		p.end()
	}
	r.spare = nil
}

// Read reads Compose files.
func (r *Readers) Read(ctx context.Context, files fs.FS, paths []string) (compose.Reading, error) {
	p, err := r.take()
	if err != nil {
		return compose.Reading{}, err
	}
	defer func() { // only now: what starts takes time from what is read
		p.end()
		go r.refill()
	}()
	return p.read(ctx, files, paths)
}

func (r *Readers) take() (*process, error) {
	r.mu.Lock()
	if n := len(r.spare); n > 0 {
		p := r.spare[n-1]
		r.spare = r.spare[:n-1]
		r.mu.Unlock()
		return p, nil
	}
	r.mu.Unlock()
	return begin()
}

func (r *Readers) refill() {
	for {
		r.mu.Lock()
		enough := r.ended || len(r.spare) >= kept
		r.mu.Unlock()
		if enough {
			return
		}
		p, err := begin()
		if err != nil {
			return // it is tried again when one is needed
		}
		if err := p.ready(); err != nil {
			p.end()
			return
		}
		r.mu.Lock()
		if r.ended || len(r.spare) >= kept {
			r.mu.Unlock()
			p.end()
			return
		}
		r.spare = append(r.spare, p)
		r.mu.Unlock()
	}
}

// nobody is the user that the process is on the host.
const nobody = 65534

// begin starts a process with namespaces of its own. As root it becomes a user who has
// nothing here; as another user it stays that one, whose files it does not see.
func begin() (*process, error) { return beginAs(Name) }

func beginAs(name string) (*process, error) {
	uid, gid := os.Getuid(), os.Getgid()
	if uid == 0 {
		uid, gid = nobody, nobody
	}
	c := &exec.Cmd{Path: "/proc/self/exe", Args: []string{name}, Env: []string{}, Dir: "/", SysProcAttr: &syscall.SysProcAttr{
		Cloneflags:  syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS | syscall.CLONE_NEWPID,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: uid, Size: 1}}, GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: gid, Size: 1}},
		// Root's groups go too; another user may not give its own up.
		GidMappingsEnableSetgroups: os.Getuid() == 0, Credential: &syscall.Credential{NoSetGroups: os.Getuid() != 0},
		Setsid: true,
	}}
	in, err := c.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := c.StdoutPipe()
	if err != nil {
		return nil, err
	}
	c.Stderr = os.Stderr
	if err := c.Start(); err != nil {
		return nil, fmt.Errorf("start a reader apart: %w", err)
	}
	from := bufio.NewReaderSize(io.LimitReader(out, 64<<20), 64<<10)
	return &process{c, in, from, json.NewDecoder(from)}, nil
}

// ready waits until the process has prepared itself for work.
func (p *process) ready() error {
	late := time.AfterFunc(readLimit, func() { _ = p.cmd.Process.Kill() })
	defer late.Stop()
	if err := json.NewEncoder(p.in).Encode(request{Warm: true}); err != nil {
		return fmt.Errorf("start a reader apart: %w", err)
	}
	var a ask
	if err := p.from.Decode(&a); err != nil {
		return fmt.Errorf("start a reader apart: %w", err)
	}
	return nil
}

func (p *process) end() {
	p.in.Close()
	_ = p.cmd.Process.Kill()
	go func() { _ = p.cmd.Wait() }()
}

// read asks the process to read, and gives it the files that it wants.
func (p *process) read(ctx context.Context, files fs.FS, paths []string) (compose.Reading, error) {
	ctx, cancel := context.WithTimeout(ctx, readLimit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = p.cmd.Process.Kill() })
	defer stop()
	to := json.NewEncoder(p.in)
	broke := func(err error) (compose.Reading, error) {
		if ctx.Err() != nil {
			return compose.Reading{}, fmt.Errorf("reading them took longer than %s, or more memory than it may", readLimit)
		}
		return compose.Reading{}, fmt.Errorf("the process that reads them ended: %w", err)
	}
	if err := to.Encode(request{Paths: paths}); err != nil {
		return broke(err)
	}
	for range mostFiles {
		var a ask
		if err := p.from.Decode(&a); err != nil {
			return broke(err)
		}
		if a.Done != nil {
			return *a.Done, nil
		}
		if err := to.Encode(give(files, a.Open)); err != nil {
			return broke(err)
		}
	}
	return compose.Reading{}, errors.New("they refer to too many files")
}

// give reads a file for the process. The file system has only the repository.
func give(files fs.FS, name string) file {
	info, err := fs.Stat(files, name)
	if errors.Is(err, fs.ErrNotExist) {
		return file{None: true}
	}
	if err == nil && (!info.Mode().IsRegular() || info.Size() > maxFile) {
		err = fmt.Errorf("it is no file of at most %d bytes", maxFile)
	}
	var b []byte
	if err == nil {
		b, err = fs.ReadFile(files, name)
	}
	if err != nil {
		return file{Wrong: err.Error()}
	}
	return file{Bytes: b}
}

// noFiles has none.
type noFiles struct{}

// Open finds nothing.
func (noFiles) Open(name string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}
