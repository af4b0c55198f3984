package agent

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
)

// terminalHistory is how much of a terminal's output is kept for who comes back, in bytes.
const terminalHistory = 256 << 10

// terminal is a pty with a program that outlives the connection it was opened by.
type terminal struct {
	name    string
	named   bool // the person gave the name, and will come back by it
	started time.Time
	master  *os.File
	process *process
	output  *history

	mu        sync.Mutex
	attached  int
	idleSince time.Time
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
	if isNew {
		x.greet(t)
	}
	t.attach(1)
	defer t.attach(-1)
	x.mu.Lock()
	x.process = t.process
	x.resize = t.resize
	x.mu.Unlock()
	t.resize(*x.size)

	output := t.output.follow()
	defer output.Close()
	// The end of what is typed is not the end of the person: only a closed channel is.
	// Then following stops, and the program is left alone.
	stop := context.AfterFunc(ctx, output.Close)
	defer stop()
	go func() { _, _ = io.Copy(t.master, x.channel) }()
	_, _ = io.CopyBuffer(x.channel, struct{ io.Reader }{output}, make([]byte, 32<<10))
	select {
	case <-t.process.done:
		sendExit(x.channel, t.process.status)
	default:
	}
}

// terminal finds the terminal that the session names or makes one.
func (s *Server) terminal(x *session, c command, line string) (*terminal, bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	name := x.env[wire.TerminalName]
	if t := s.terminals[name]; t != nil && line == "" {
		return t, false, nil
	}
	named := name != "" && line == ""
	for n := 1; !named; n++ {
		if name = fmt.Sprintf("t%d", n); s.terminals[name] == nil {
			break
		}
	}
	t, err := s.openTerminal(name, x, c)
	if err != nil {
		return nil, false, err
	}
	t.named = named
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

func (s *Server) openTerminal(name string, x *session, c command) (*terminal, error) {
	master, slave, err := pty.Open()
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
	t := &terminal{name: name, started: time.Now(), idleSince: time.Now(), master: master, output: newHistory(terminalHistory)}
	t.resize(*x.size)
	if t.process, err = s.spawner.start(c); err != nil {
		master.Close()
		return nil, err
	}
	go t.collect()
	return t, nil
}

// collect reads the terminal until the program and all that holds it have ended. The
// kernel then answers EIO.
func (t *terminal) collect() {
	_, _ = io.CopyBuffer(t.output, struct{ io.Reader }{t.master}, make([]byte, 32<<10))
	<-t.process.done
	t.output.Close()
	t.master.Close()
}

func (t *terminal) attach(n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.attached += n
}

func (t *terminal) resize(size windowSize) {
	if size.Columns == 0 || size.Rows == 0 {
		return
	}
	_ = pty.Setsize(t.master, &pty.Winsize{Cols: uint16(size.Columns), Rows: uint16(size.Rows), X: uint16(size.Width), Y: uint16(size.Height)})
}

// greet tells of terminals that wait for the person to come back.
func (x *session) greet(t *terminal) {
	for _, other := range x.server.listTerminals() {
		if other.Name != t.name && other.Attached == 0 {
			fmt.Fprintf(x.channel.Stderr(), "Terminal %s still runs %s. To come back to it: %s=%s with SetEnv, or domicile shell -terminal %s.\r\n",
				other.Name, other.Command, wire.TerminalName, other.Name, other.Name)
		}
	}
}

func (s *Server) listTerminals() []wire.Terminal {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []wire.Terminal{}
	for _, t := range s.terminals {
		t.mu.Lock()
		list = append(list, wire.Terminal{Name: t.name, Command: commandOf(t.foreground()), Attached: t.attached, Started: t.started})
		t.mu.Unlock()
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Started.Before(list[j].Started) })
	return list
}

// foreground is the process group that has the terminal.
func (t *terminal) foreground() int {
	group, err := unix.IoctlGetInt(int(t.master.Fd()), unix.TIOCGPGRP)
	if err != nil {
		return t.process.pid
	}
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
	if t.attached > 0 || t.foreground() != t.process.pid {
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
