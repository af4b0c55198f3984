// Package apart reads untrusted text in a process that has nothing: a user of its own
// without rights, an empty file system, no network, and bounds of time and memory. A text
// that gets the better of the library that reads it finds nothing there.
//
// The process is a program that calls Main (cmd/domicile-reader, or the service's own); each
// reads one text, and some are kept ready so that nobody waits for their start.
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
	"sync/atomic"
	"syscall"
	"time"

	"domicile/internal/apart/leaving"
	"domicile/internal/compose"
	"domicile/internal/definition"
)

const (
	// readLimit bounds one reading.
	readLimit = leaving.MaxTime
	// maxFile bounds a file that is given to it, in bytes.
	maxFile = 1 << 20
	// mostQuestions bounds what it may ask, mostEntries the entries of a folder.
	mostQuestions = 5000
	// mostDear bounds those whose answer is dear, a digest of a folder or something that is
	// fetched, and atOnce how many are answered side by side: a process that was taken over
	// must not keep this one busy.
	mostDear = 1000
	atOnce   = 8
	// maxMessage bounds what the process says at once, in bytes.
	maxMessage  = 64 << 20
	mostEntries = 20_000
	// kept is how many wait for work.
	kept = 2
	// refillAfter is when one that was taken is replaced.
	refillAfter = time.Second
)

// Readers are the processes that wait for work.
type Readers struct {
	program  string
	mu       sync.Mutex
	spare    []*process
	texts    map[string]*held // those that have read a text, by its name
	ended    bool
	patience time.Duration // refillAfter
	filling  bool          // what is missing is being started, or will be
}

// process is one of them.
type process struct {
	cmd   *exec.Cmd
	in    io.WriteCloser
	bound *io.LimitedReader
	out   *bufio.Reader
	from  *json.Decoder
}

// Self is this program itself, for where the one that is made for it is missing.
const Self = "/proc/self/exe"

// Start starts the first ones, and tells why this machine cannot keep them apart. program is
// what is started: cmd/domicile-reader, or Self.
func Start(program string) (*Readers, error) {
	r := &Readers{program: program, texts: map[string]*held{}, patience: refillAfter}
	p, err := begin(program)
	if err != nil {
		return nil, err
	}
	// The first one proves that it gets as far as to ask.
	if _, err := p.read(context.Background(), &answers{}, request{Compose: []string{}}); err != nil {
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
	for of, h := range r.texts {
		if h.users == 0 {
			r.drop(of, h)
		}
	}
	for _, p := range r.spare {
		p.end()
	}
	r.spare = nil
}

// Compose reads Compose files. of names the text that they are: what is read of one name may
// be read by one process. Empty: nothing else is.
func (r *Readers) Compose(ctx context.Context, of string, files fs.FS, paths []string) (compose.Reading, error) {
	out, err := r.with(ctx, of, &answers{systems: []fs.FS{files}}, request{Compose: paths})
	if err == nil && out.Compose == nil {
		err = errNothing
	}
	if err != nil {
		return compose.Reading{}, err
	}
	return *out.Compose, nil
}

var (
	errNothing  = errors.New("the process that reads it has read nothing")
	errNonsense = errors.New("the process that reads it says what nobody understands")
)

// Definition reads the definition of a repository, as definition.Read does; of is as that of
// Compose. What is asked of registries is asked by this process.
func (r *Readers) Definition(ctx context.Context, of string, files fs.FS, o definition.Options) (*definition.Report, error) {
	a := &answers{artifacts: o.Artifacts, images: o.Images, systems: []fs.FS{files}}
	out, err := r.with(ctx, of, a, request{Definition: &wanted{o.File, o.Folder, o.IgnoreLocks, o.Labels, o.Variations}})
	if err == nil && out.Definition == nil {
		err = errNothing
	}
	if err != nil {
		return nil, err
	}
	return out.Definition.Whole(a.files)
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
	return begin(r.program)
}

// refillSoon starts what is missing: at once where none waits any more, else when what was
// read has been used, for what starts takes time from that.
func (r *Readers) refillSoon() {
	r.mu.Lock()
	defer r.mu.Unlock()
	switch {
	case r.ended || r.filling:
		return
	case len(r.spare) > 0:
		time.AfterFunc(r.patience, r.refill)
	default:
		go r.refill()
	}
	r.filling = true
}

func (r *Readers) refill() {
	defer func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.filling = false
	}()

	for {
		r.mu.Lock()
		enough := r.ended || len(r.spare) >= kept
		r.mu.Unlock()
		if enough {
			return
		}
		p, err := begin(r.program)
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
func begin(program string) (*process, error) { return beginAs(program, leaving.Name) }

func beginAs(program, name string) (*process, error) {
	uid, gid := os.Getuid(), os.Getgid()
	if uid == 0 {
		uid, gid = nobody, nobody
	}
	c := &exec.Cmd{Path: program, Args: []string{name}, Env: []string{}, Dir: "/", SysProcAttr: &syscall.SysProcAttr{
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
	p := &process{cmd: c, in: in, bound: &io.LimitedReader{R: out}}
	p.out = bufio.NewReaderSize(p.bound, 64<<10)
	p.from = json.NewDecoder(p.out)
	p.bound.N = maxMessage
	return p, nil
}

// hear reads a message.
func (p *process) hear(m *message) error {
	p.bound.N = maxMessage
	return p.from.Decode(m)
}

// gone says what an error of talking with a process means.
func gone(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.EPIPE) {
		return errors.New("the process that reads it ended, for want of memory or time")
	}
	return fmt.Errorf("the process that reads it says what nobody understands: %w", err)
}

// ready waits until the process has prepared itself for work.
func (p *process) ready() error {
	late := time.AfterFunc(readLimit, func() { _ = p.cmd.Process.Kill() })
	defer late.Stop()
	if err := json.NewEncoder(p.in).Encode(order{Read: &request{Warm: true}}); err != nil {
		return fmt.Errorf("start a reader apart: %w", err)
	}
	var a message
	if err := p.hear(&a); err != nil {
		return fmt.Errorf("start a reader apart: %w", err)
	}
	return nil
}

func (p *process) end() {
	p.in.Close()
	_ = p.cmd.Process.Kill()
	go func() { _ = p.cmd.Wait() }()
}

// read asks the process to read, and answers what it asks.
func (p *process) read(ctx context.Context, a *answers, q request) (*done, error) {
	ctx, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	kill := func() { _ = p.cmd.Process.Kill() }
	stop := context.AfterFunc(ctx, kill)
	defer stop()
	limit := &limit{}
	limit.timer = time.AfterFunc(readLimit, func() { limit.passed.Store(true); kill() })
	defer limit.timer.Stop()
	broke := func(err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case limit.passed.Load():
			return fmt.Errorf("reading it took longer than %s", readLimit)
		}
		return gone(err)
	}
	to := json.NewEncoder(p.in)
	if err := to.Encode(order{Read: &q}); err != nil {
		return nil, broke(err)
	}
	var writing sync.Mutex
	under, dear := make(chan struct{}, atOnce), 0
	for range mostQuestions {
		var m message
		if err := p.hear(&m); err != nil {
			return nil, broke(err)
		}
		switch {
		case m.Done != nil:
			return m.Done, nil
		case m.Ask == nil:
			return nil, errNonsense
		}
		if m.Ask.dear() {
			dear++
		}
		if dear > mostDear {
			break
		}
		limit.pause()
		under <- struct{}{}
		all.Go(func() {
			defer func() { <-under; limit.resume() }()
			given := a.to(ctx, *m.Ask)
			writing.Lock()
			defer writing.Unlock()
			_ = to.Encode(order{Answer: &given}) // a process that is gone is noticed by who reads from it
		})
	}
	return nil, errors.New("it refers to too many files")
}

// limit bounds the time that the process has by itself: what it waits for does not count.
type limit struct {
	timer  *time.Timer
	passed atomic.Bool
	mu     sync.Mutex
	under  int // questions that are being answered
}

func (l *limit) pause() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.under++
	l.timer.Stop()
}

func (l *limit) resume() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.under--; l.under == 0 {
		l.timer.Reset(readLimit)
	}
}
