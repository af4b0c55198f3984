package agent

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"sync"
	"syscall"
)

// spawner starts processes and is the only place that waits for children. As a
// container's first process the agent inherits orphans and must reap them; waiting for
// single processes elsewhere would race with that.
type spawner struct {
	mu      sync.Mutex
	running map[int]*process
}

// process is a child of the agent, leader of a session of its own.
type process struct {
	pid    int
	done   chan struct{} // closed when it has ended
	status syscall.WaitStatus
}

func newSpawner() *spawner {
	s := &spawner{running: map[int]*process{}}
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGCHLD)
	go func() {
		for range ended {
			s.reap()
		}
	}()
	return s
}

func (s *spawner) reap() {
	for {
		var status syscall.WaitStatus
		s.mu.Lock()
		pid, err := syscall.Wait4(-1, &status, syscall.WNOHANG, nil)
		p := s.running[pid]
		if p != nil {
			p.status = status
			delete(s.running, pid)
			close(p.done)
		}
		s.mu.Unlock()
		if errors.Is(err, syscall.EINTR) {
			continue
		}
		if err != nil || pid <= 0 {
			return
		}
	}
}

// command is what to start.
type command struct {
	path   string
	args   []string // args[0] is what the program sees as its name
	env    []string
	folder string
	user   *account
	files  []*os.File // standard input, output, error
	tty    bool       // files[0] becomes the controlling terminal
}

// start starts a command; the lock keeps the reaper from seeing its end before it is known.
func (s *spawner) start(c command) (*process, error) {
	path := c.path
	if found, err := exec.LookPath(path); err == nil {
		path = found
	}
	attr := &os.ProcAttr{Dir: c.folder, Env: c.env, Files: c.files, Sys: &syscall.SysProcAttr{
		Setsid: true, Setctty: c.tty, Credential: c.user.credential(),
	}}
	s.mu.Lock()
	defer s.mu.Unlock()
	child, err := os.StartProcess(path, c.args, attr)
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", c.args[0], err)
	}
	p := &process{pid: child.Pid, done: make(chan struct{})}
	_ = child.Release() // the reaper waits for it
	s.running[p.pid] = p
	return p, nil
}

// signalGroup sends a signal to the process and what it started in its session's group.
func (p *process) signalGroup(sig syscall.Signal) {
	select {
	case <-p.done: // its number may belong to another one by now
	default:
		_ = syscall.Kill(-p.pid, sig)
	}
}

// stopAll asks every process group to end.
func (s *spawner) stopAll(sig syscall.Signal) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for pid := range s.running {
		_ = syscall.Kill(-pid, sig)
	}
}

// all gives the processes that run now.
func (s *spawner) all() []*process {
	s.mu.Lock()
	defer s.mu.Unlock()
	var list []*process
	for _, p := range s.running {
		list = append(list, p)
	}
	return list
}
