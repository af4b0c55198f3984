package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/splice"
	"domicile/internal/visible"
)

// terminalHistory is how much of a terminal's output is kept for who comes back, in bytes.
const terminalHistory = 256 << 10

// terminal is a pty with a program that outlives the connection it was opened by.
type terminal struct {
	name    string
	command bool // it runs a command that the person gave, not a shell
	named   bool // the person gave the name, and will come back by it
	started time.Time
	master  *master
	process *process
	output  *history
	over    chan struct{} // closed when all that it prints is read
	hands   hands

	mu        sync.Mutex
	attached  []*attachment // the one whose size counts is the last
	idleSince time.Time
	size      windowSize
	lookers   map[chan windowSize]bool // who only looks is told the size by these
}

// runInTerminal makes a terminal for the session, or comes back to the one it names, and
// stays with it until the program ends or the person goes.
func (x *session) runInTerminal(ctx context.Context, c command, line string) {
	defer x.channel.Close()
	t, isNew, err := x.server.terminal(x, c, line)
	if err != nil {
		x.fail(err)
		return
	}
	a := &attachment{}
	defer t.leave(a)
	x.mu.Lock()
	x.process = t.process
	x.resize = func(size windowSize) { t.attach(a, size) }
	x.mu.Unlock()
	before := t.attach(a, *x.size)

	output := t.output.follow()
	defer output.Close()
	h := &holding{terminal: t, shown: output, gone: make(chan struct{})}
	x.hold(h)
	defer x.server.holdings.forget(h)
	// The end of what is typed is not the end of the person: only a closed channel is.
	// Then following stops, and the program is left alone.
	stop := context.AfterFunc(ctx, output.Close)
	defer stop()
	if !isNew && before == *x.size {
		// The kernel says nothing of a size that stays as it is, and a full-screen program draws again when told.
		_ = syscall.Kill(-t.foreground(), syscall.SIGWINCH)
	}
	go func() { _, _ = io.Copy(h, x.channel) }()
	_ = splice.Copy(x.channel, output)
	select {
	case <-t.process.done:
		sendExit(x.channel, t.process.status)
	default:
	}
}

// terminalNames are those that a list, an environment and a command line can show.
var terminalNames = regexp.MustCompile(`^[\pL\pN][\pL\pN._-]{0,63}$`)

// terminal finds the terminal that the session names or makes one.
func (s *Server) terminal(x *session, c command, line string) (t *terminal, isNew bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := x.env[wire.TerminalName]
	if t := s.terminals[name]; t != nil {
		return t, false, nil
	}
	if name != "" && !terminalNames.MatchString(name) {
		return nil, false, fmt.Errorf("%q cannot be a terminal's name: use letters, digits, \".\", \"_\" and \"-\", a letter or digit first, at most 64", name)
	}
	greeting := ""
	if line == "" && x.welcome() {
		greeting = s.greeting(cmp.Or(x.env["DOMICILE_WORKSPACE"], x.person.env["DOMICILE_WORKSPACE"], "NAME"))
	}
	named := name != ""
	for n := 1; !named; n++ {
		if name = fmt.Sprintf("t%d", n); s.terminals[name] == nil {
			break
		}
	}
	t, err = s.openTerminal(name, x, c, greeting)
	if err != nil {
		return nil, false, err
	}
	t.named, t.command = named, line != ""
	s.terminals[name] = t
	go func() {
		<-t.process.done
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.terminals[name] == t {
			delete(s.terminals, name)
		}
	}()
	return t, true, nil
}

func (s *Server) openTerminal(name string, x *session, c command, greeting string) (*terminal, error) {
	master, slave, err := openPty()
	if err != nil {
		return nil, fmt.Errorf("open a terminal: %w", err)
	}
	defer slave.Close()
	// The person must own the terminal to open it again by its name, as tmux and gpg do.
	if os.Getuid() == 0 {
		if err := slave.Chown(c.user.uid, c.user.gid); err != nil {
			master.Close()
			return nil, fmt.Errorf("hand the terminal to %s: %w", c.user.name, err)
		}
	}
	x.env["SSH_TTY"] = slave.Name()
	x.env[wire.TerminalName] = name
	c.env = x.person.with(x.env)
	c.files, c.tty = []*os.File{slave, slave, slave}, true
	t := &terminal{name: name, started: time.Now(), idleSince: time.Now(), master: master, output: newHistory(terminalHistory), over: make(chan struct{})}
	t.resize(*x.size)
	if err := setModes(slave, x.modes); err != nil {
		s.log.Debug("set the modes of a terminal", "error", err)
	}
	_, _ = io.WriteString(t.output, greeting) // into memory: before all that the shell says
	if t.process, err = s.spawner.start(c); err != nil {
		master.Close()
		return nil, err
	}
	go t.collect()
	return t, nil
}

// collect reads the terminal until its program has ended and has said all. What it has left
// behind in the background goes on without a terminal: nobody waits for it.
func (t *terminal) collect() {
	go func() {
		<-t.process.done
		t.quietSoon()
	}()
	buffer := make([]byte, 32<<10)
	for {
		n, err := t.master.Read(buffer)
		_, _ = t.output.Write(buffer[:n])
		if errors.Is(err, os.ErrDeadlineExceeded) && t.hands.waited() {
			t.master.readBefore(time.Time{})
			select {
			case <-t.process.done:
				t.quietSoon()
			default:
			}
			continue
		}
		if err != nil { // EIO: all that held it have ended; or a moment has passed in which nothing came
			break
		}
		select {
		case <-t.process.done:
			t.quietSoon()
		default:
		}
	}
	<-t.process.done
	close(t.over)
	t.output.Close()
	t.master.Close()
}

// quietSoon has the reader give up when nothing comes for a moment: what the program said last is
// on its way.
func (t *terminal) quietSoon() { t.master.readBefore(time.Now().Add(drainQuiet)) }

// attachment is somebody at a terminal, by the size of their window.
type attachment struct{ size windowSize }

// attach notes the window of somebody at the terminal, which gets its size, and returns the size before.
func (t *terminal) attach(a *attachment, size windowSize) (before windowSize) {
	t.mu.Lock()
	before = t.size
	a.size = size
	t.attached = append(slices.DeleteFunc(t.attached, func(other *attachment) bool { return other == a }), a)
	t.mu.Unlock()
	t.resize(size)
	return before
}

// leave forgets somebody. The terminal gets the size of who changed theirs last of those who stay.
func (t *terminal) leave(a *attachment) {
	t.mu.Lock()
	t.attached = slices.DeleteFunc(t.attached, func(other *attachment) bool { return other == a })
	var size windowSize
	if n := len(t.attached); n > 0 {
		size = t.attached[n-1].size
	}
	same := size == t.size
	t.mu.Unlock()
	if !same {
		t.resize(size)
	}
}

// resize gives the terminal a size; none counts as no change.
func (t *terminal) resize(size windowSize) {
	if size.Columns == 0 || size.Rows == 0 {
		return
	}
	t.master.control(func(fd int) {
		_ = unix.IoctlSetWinsize(fd, unix.TIOCSWINSZ, &unix.Winsize{
			Col: uint16(size.Columns), Row: uint16(size.Rows), Xpixel: uint16(size.Width), Ypixel: uint16(size.Height),
		})
	})
	t.sized(size)
}

// welcome tells whether a person sits at a terminal and reads: an editor that talks with the
// shell gives a terminal that can nothing, or a prompt of its own to wait for.
func (x *session) welcome() bool {
	_, prompts := x.env["PS1"]
	_, commands := x.env["PROMPT_COMMAND"]
	return x.env["TERM"] != "" && x.env["TERM"] != "dumb" && x.env["TERM"] != "unknown" && x.env["INSIDE_EMACS"] == "" && !prompts && !commands
}

// longestCommand is how much of a command is shown, in characters.
const longestCommand = 80

// greeting tells of terminals that wait for the person to come back. It is called with the
// server's lock held.
func (s *Server) greeting(workspace string) string {
	var b strings.Builder
	for _, other := range s.terminalsNow() {
		if other.Attached == 0 {
			fmt.Fprintf(&b, "Terminal %s still runs %s. To come back to it, from your machine:\r\n  domicile shell %s -terminal %s\r\n",
				other.Name, visible.Line(other.Command, longestCommand), workspace, other.Name)
		}
	}
	return b.String()
}

func (s *Server) listTerminals() []wire.Terminal {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.terminalsNow()
}

func (s *Server) terminalsNow() []wire.Terminal {
	list := []wire.Terminal{}
	for _, t := range s.terminals {
		t.mu.Lock()
		list = append(list, wire.Terminal{Name: t.name, Command: commandOf(t.foreground()), Attached: len(t.attached), Started: t.started})
		t.mu.Unlock()
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Started.Before(list[j].Started) })
	return list
}

// foreground is the process group that has the terminal; its own program once it is closed.
func (t *terminal) foreground() int {
	group := t.process.pid
	t.master.control(func(fd int) {
		if now, err := unix.IoctlGetInt(fd, unix.TIOCGPGRP); err == nil {
			group = now
		}
	})
	return group
}

func commandOf(pid int) string {
	b, err := os.ReadFile(filepath.Join("/proc", fmt.Sprint(pid), "cmdline"))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(strings.ReplaceAll(string(b), "\x00", " "))
}

// How long a terminal that nobody is attached to, and in which nothing runs but the shell,
// waits: one that nobody named belongs to a window that was closed.
const (
	idleUnnamed = time.Minute
	idleNamed   = 12 * time.Hour
)

// hangUpIfIdle is called with the terminal's lock held.
func (t *terminal) hangUpIfIdle(now time.Time) {
	if len(t.attached) > 0 || t.command || t.foreground() != t.process.pid {
		t.idleSince = now
		return
	}
	limit := idleUnnamed
	if t.named {
		limit = idleNamed
	}
	if now.Sub(t.idleSince) >= limit {
		t.process.signalGroup(syscall.SIGHUP)
	}
}

// closeIdleTerminals looks at all terminals from time to time.
func (s *Server) closeIdleTerminals(ctx context.Context) {
	tick := time.NewTicker(idleUnnamed / 2)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		s.mu.Lock()
		for _, t := range s.terminals {
			t.mu.Lock()
			t.hangUpIfIdle(time.Now())
			t.mu.Unlock()
		}
		s.mu.Unlock()
	}
}
