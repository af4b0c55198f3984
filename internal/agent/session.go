package agent

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"regexp"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/splice"
)

// session is one SSH session channel (RFC 4254, section 6).
type session struct {
	server  *Server
	conn    connection.Conn
	channel connection.Channel
	person  *person
	env     map[string]string
	size    *windowSize // nil: no pty was asked for
	started bool
	modes   []byte // of the terminal, as the client has them
	begins  func() // what the session is for, once its request is answered

	mu      sync.Mutex
	process *process
	output  *os.File // of a program without a terminal
	word    string   // by which the service asks for the terminal
	held    *holding
	resize  func(windowSize)
}

// The payloads of RFC 4254, sections 6.2, 6.4, 6.5, 6.7, 6.9.
type (
	windowSize  struct{ Columns, Rows, Width, Height uint32 }
	envRequest  struct{ Name, Value string }
	execRequest struct{ Command string }
	signalName  struct{ Name string }
)

func (s *Server) session(ctx context.Context, conn *visitor, new connection.NewChannel) {
	p, lends, err := conn.who(s)
	if err != nil {
		_ = new.Reject(ssh.ResourceShortage, err.Error())
		return
	}
	channel, requests, err := new.Accept()
	if err != nil {
		return
	}
	x := &session{server: s, conn: conn, channel: channel, person: p, env: map[string]string{}}
	maps.Copy(x.env, conn.variables())
	if lends {
		maps.Copy(x.env, s.lentKeys(p))
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // the client has closed the channel
	for r := range requests {
		ok := x.request(ctx, r)
		if r.WantReply {
			_ = r.Reply(ok, nil)
		}
		// Only now: the end of a short program must not overtake the answer.
		if x.begins != nil {
			go x.begins()
			x.begins = nil
		}
	}
}

func (x *session) request(ctx context.Context, r *connection.Request) bool {
	switch r.Type {
	case "pty-req":
		return x.pty(r.Payload)
	case "env":
		var e envRequest
		if x.started || ssh.Unmarshal(r.Payload, &e) != nil || strings.ContainsAny(e.Name, "=\x00") {
			return false
		}
		x.env[e.Name] = e.Value
		return true
	case "window-change":
		var size windowSize
		if ssh.Unmarshal(r.Payload, &size) != nil {
			return false
		}
		x.mu.Lock()
		defer x.mu.Unlock()
		if x.resize != nil {
			x.resize(size)
		}
		return x.resize != nil
	case "signal":
		return x.signal(r.Payload)
	case "eow@openssh.com":
		return x.endOfWrite()
	case "auth-agent-req@openssh.com":
		path, err := forwardAgent(ctx, x.conn, x.person.account)
		if err != nil {
			x.server.log.Warn("forward the person's agent", "error", err)
			return false
		}
		x.env["SSH_AUTH_SOCK"] = path
		return true
	case "x11-req":
		if x.started {
			return false
		}
		more, err := x11(ctx, x.conn, x.person.account, r.Payload)
		if err != nil {
			x.server.log.Warn("make a display", "error", err)
			return false
		}
		maps.Copy(x.env, more)
		return true
	case wire.HandOver:
		x.said(string(r.Payload))
		return true
	case "shell":
		return x.begin(func() { x.run(ctx, "") })
	case "exec":
		var e execRequest
		if ssh.Unmarshal(r.Payload, &e) != nil {
			return false
		}
		return x.begin(func() { x.run(ctx, e.Command) })
	case "subsystem":
		var e execRequest
		if ssh.Unmarshal(r.Payload, &e) != nil || e.Command != "sftp" {
			return false
		}
		return x.begin(x.sftp)
	}
	return false
}

// begin says what the session is for, once.
func (x *session) begin(f func()) bool {
	if x.started {
		return false
	}
	x.started, x.begins = true, f
	return true
}

func (x *session) pty(payload []byte) bool {
	var q struct {
		Term                         string
		Columns, Rows, Width, Height uint32
		Modes                        string
	}
	if x.started || ssh.Unmarshal(payload, &q) != nil {
		return false
	}
	x.size, x.modes = &windowSize{q.Columns, q.Rows, q.Width, q.Height}, []byte(q.Modes)
	x.env["TERM"] = q.Term
	return true
}

var signals = map[string]syscall.Signal{
	"ABRT": syscall.SIGABRT, "ALRM": syscall.SIGALRM, "FPE": syscall.SIGFPE, "HUP": syscall.SIGHUP, "ILL": syscall.SIGILL,
	"INT": syscall.SIGINT, "KILL": syscall.SIGKILL, "PIPE": syscall.SIGPIPE, "QUIT": syscall.SIGQUIT, "SEGV": syscall.SIGSEGV,
	"TERM": syscall.SIGTERM, "USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2,
}

func (x *session) signal(payload []byte) bool {
	var name signalName
	if ssh.Unmarshal(payload, &name) != nil {
		return false
	}
	sig, known := signals[name.Name]
	x.mu.Lock()
	defer x.mu.Unlock()
	if !known || x.process == nil {
		return false
	}
	x.process.signalGroup(sig)
	return true
}

// transfer finds the commands by which files are brought: to these a path without a slash
// before it is one in the home folder, on every SSH server.
var transfer = regexp.MustCompile(`^(scp|rsync) (.* )?-(-server|t|f)\b|^git[ -](receive-pack|upload-pack|upload-archive) `)

// run runs the person's shell, or a command through it.
func (x *session) run(ctx context.Context, line string) {
	c := command{path: x.person.account.shell, args: []string{x.person.shellName()}, folder: x.person.start(), user: x.person.account}
	if line != "" {
		c.args = append(c.args, "-c", line)
	}
	if transfer.MatchString(line) {
		c.folder = x.person.home()
	}
	if x.size != nil {
		x.runInTerminal(ctx, c, line)
		return
	}
	c.env = x.person.with(x.env)
	x.runOnPipes(c)
}

func (x *session) sftp() {
	x.runOnPipes(command{path: self(), args: []string{"domicile-agent", "sftp"}, folder: x.person.home(), user: x.person.account, env: x.person.with(x.env)})
}

// self is the agent's own binary, also where its name was not looked up in PATH.
func self() string {
	path, err := os.Executable()
	if err != nil {
		return wire.AgentPath
	}
	return path
}

func (x *session) runOnPipes(c command) {
	defer x.channel.Close()
	pipes, err := newPipes()
	if err != nil {
		x.fail(err)
		return
	}
	c.files = pipes.child()
	p, err := x.server.spawner.start(c)
	pipes.closeChild()
	if err != nil {
		pipes.close()
		x.fail(err)
		return
	}
	x.mu.Lock()
	x.process, x.output = p, pipes.out
	x.mu.Unlock()
	go func() {
		_ = splice.Copy(pipes.in, x.channel)
		pipes.in.Close()
	}()
	var output sync.WaitGroup
	output.Go(func() { copyOut(x.channel, pipes.out) })
	output.Go(func() { copyOut(x.channel.Stderr(), pipes.err) })
	output.Wait()
	<-p.done
	sendExit(x.channel, p.status)
}

// endOfWrite lets a program know that nobody reads its output any more, as a closed pipe does:
// the person's side has said so, and waits for the program's end.
func (x *session) endOfWrite() bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.output != nil {
		x.output.Close()
	}
	return true
}

// copyOut copies until the program closes its end, or the person is gone: then the
// pipe is closed and the program learns it by SIGPIPE, as with any SSH server.
func copyOut(to io.Writer, from *os.File) {
	defer from.Close()
	_ = splice.Copy(to, from)
}

func (x *session) fail(err error) {
	fmt.Fprintf(x.channel.Stderr(), "domicile: %v\r\n", err)
	_, _ = x.channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{127}))
	x.channel.Close()
}

// sendExit tells how a process ended (RFC 4254, section 6.10).
func sendExit(channel connection.Channel, status syscall.WaitStatus) {
	if !status.Signaled() {
		_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status.ExitStatus())}))
		return
	}
	name := "KILL"
	for n, sig := range signals {
		if sig == status.Signal() {
			name = n
		}
	}
	_, _ = channel.SendRequest("exit-signal", false, ssh.Marshal(struct {
		Name            string
		Core            bool
		Message, Langue string
	}{name, status.CoreDump(), status.Signal().String(), ""}))
}

// pipes are a program's standard input, output and error.
type pipes struct{ in, out, err, childIn, childOut, childErr *os.File }

func newPipes() (p pipes, err error) {
	defer func() {
		if err != nil {
			p.close()
			p.closeChild()
		}
	}()
	if p.childIn, p.in, err = os.Pipe(); err != nil {
		return p, err
	}
	if p.out, p.childOut, err = os.Pipe(); err != nil {
		return p, err
	}
	p.err, p.childErr, err = os.Pipe()
	return p, err
}

func (p pipes) child() []*os.File { return []*os.File{p.childIn, p.childOut, p.childErr} }
func (p pipes) closeChild()       { closeFiles(p.childIn, p.childOut, p.childErr) }
func (p pipes) close()            { closeFiles(p.in, p.out, p.err) }

func closeFiles(files ...*os.File) {
	for _, f := range files {
		if f != nil {
			f.Close()
		}
	}
}
