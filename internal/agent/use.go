package agent

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
)

const (
	// sampleEvery is how often the processor time of all that runs is looked at.
	sampleEvery = 5 * time.Second
	// atWork is the share of one processor from which on something counts as being at work.
	atWork = 0.05
	// clockTicks is the unit of times in /proc, in parts of a second.
	clockTicks = 100
)

// use notes when the instance was last used: bytes that went through a person's session or
// forward, and processor time. A terminal in which nothing happens is no use.
type use struct {
	last  atomic.Int64 // nanoseconds since 1970
	quiet atomic.Int64 // until then what is printed does not count
}

// quietFor is how long what is printed does not count after the service has told the
// terminals something: that is no use of them.
const quietFor = 2 * time.Second

func (u *use) now() { u.last.Store(time.Now().UnixNano()) }

// watched counts what goes through the channels that are a person's, not the service's.
func (u *use) watched(c connection.NewChannel) connection.NewChannel {
	switch c.ChannelType() {
	case "session", "direct-tcpip", "direct-streamlocal@openssh.com":
		return watchedChannel{c, u}
	}
	return c
}

type watchedChannel struct {
	connection.NewChannel
	use *use
}

func (w watchedChannel) Accept() (connection.Channel, connection.Requests, error) {
	c, requests, err := w.NewChannel.Accept()
	if err != nil {
		return c, requests, err
	}
	w.use.now()
	return w.use.counted(c), requests, nil
}

// counted notes a use at each byte that goes through.
func (u *use) counted(c connection.Channel) connection.Channel {
	if u == nil {
		return c
	}
	return countedChannel{c, u}
}

type countedChannel struct {
	connection.Channel
	use *use
}

func (c countedChannel) Read(p []byte) (int, error) {
	n, err := c.Channel.Read(p)
	if n > 0 {
		c.use.now()
	}
	return n, err
}

// WriteTo copies all that comes, without a buffer where the channel needs none.
func (c countedChannel) WriteTo(w io.Writer) (int64, error) {
	if from, ok := c.Channel.(io.WriterTo); ok {
		return from.WriteTo(countedWriter{w, c.use})
	}
	return io.Copy(w, struct{ io.Reader }{c})
}

type countedWriter struct {
	io.Writer
	use *use
}

func (c countedWriter) Write(p []byte) (int, error) {
	c.use.now()
	return c.Writer.Write(p)
}

func (c countedChannel) Write(p []byte) (int, error) {
	c.use.printed()
	return c.Channel.Write(p)
}

// printed notes a use by what is printed, unless that is what the service has told.
func (u *use) printed() {
	if time.Now().UnixNano() > u.quiet.Load() {
		u.now()
	}
}

// sample looks at processor time until ctx ends.
func (u *use) sample(ctx context.Context) {
	u.now()
	before := ticks("/proc")
	for tick := time.NewTicker(sampleEvery); ; {
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
		after := ticks("/proc")
		if float64(after-before) > atWork*clockTicks*sampleEvery.Seconds() {
			u.now()
		}
		before = after
	}
}

// ticks is the processor time of all processes but the agent itself, with that of their
// children that have ended.
func ticks(proc string) (sum int64) {
	entries, err := os.ReadDir(proc)
	if err != nil {
		return 0
	}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		b, err := os.ReadFile(filepath.Join(proc, e.Name(), "stat"))
		if err != nil {
			continue // it has ended meanwhile
		}
		// The name in brackets may hold anything; behind it come state and numbers.
		fields := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
		for i := 11; i <= 14 && i < len(fields); i++ { // utime, stime, cutime, cstime
			n, _ := strconv.ParseInt(fields[i], 10, 64)
			sum += n
		}
	}
	return sum
}

// activity tells whether the instance is used.
func (s *Server) activity() wire.ActivityReply {
	if what := s.busy(); what != "" {
		s.use.now()
		return wire.ActivityReply{Busy: what}
	}
	return wire.ActivityReply{Idle: time.Since(time.Unix(0, s.use.last.Load())).Seconds()}
}

// busy names what keeps the instance in use: a command of a run, or a process that the
// person marked.
func (s *Server) busy() string {
	s.mu.Lock()
	for key, t := range s.tasks {
		select {
		case <-t.process.done:
		default:
			s.mu.Unlock()
			return "the command " + key
		}
	}
	s.mu.Unlock()
	return s.marked()
}

// marked asks the agent's own program, as the session's user, for marked processes: even
// root may not read another user's environment in a container.
func (s *Server) marked() string {
	p, err := s.current()
	if err != nil {
		return ""
	}
	out, w, err := os.Pipe()
	if err != nil {
		return ""
	}
	defer out.Close()
	look, err := s.spawner.start(command{path: self(), args: []string{"domicile-agent", "marked"}, folder: "/", user: p.account, files: []*os.File{nil, w, nil}})
	w.Close()
	if err != nil {
		s.log.Warn("look for marked processes", "error", err)
		return ""
	}
	b, _ := io.ReadAll(io.LimitReader(out, 4096)) // what cannot be read marks nothing
	<-look.done
	return strings.TrimSpace(string(b))
}

// Marked names a process of the user who asks that is marked to keep the workspace from
// stopping by itself; empty: there is none.
func Marked() string { return marked("/proc") }

func marked(proc string) string {
	entries, err := os.ReadDir(proc)
	if err != nil {
		return ""
	}
	want := []byte(wire.BusyVariable + "=1")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		b, err := os.ReadFile(filepath.Join(proc, e.Name(), "environ"))
		if err == nil && (bytes.HasPrefix(b, append(want, 0)) || bytes.Contains(b, append([]byte{0}, append(want, 0)...))) {
			return fmt.Sprintf("%s, which is marked with %s", commandOf(pid), want)
		}
	}
	return ""
}

// tell writes a sentence into all open terminals.
func (s *Server) tell(text string) {
	text = strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, text)
	s.mu.Lock()
	terminals := make([]*terminal, 0, len(s.terminals))
	for _, t := range s.terminals {
		terminals = append(terminals, t)
	}
	s.mu.Unlock()
	s.use.quiet.Store(time.Now().Add(quietFor).UnixNano())
	var told sync.WaitGroup // each may have to come back first, and who asked may be about to stop all
	for _, t := range terminals {
		told.Go(func() {
			t.hands.whileHere(func() { _, _ = t.output.Write([]byte("\r\n" + text + "\r\n")) })
		})
	}
	told.Wait()
}
