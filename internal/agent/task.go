package agent

import (
	"encoding/json"
	"os"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/splice"
)

// taskHistory is how much of a task's output is kept for a service that comes back, in bytes.
const taskHistory = 1 << 20

// endedTasks is how many tasks that have ended are kept for a service that comes back: it
// works on a few at a time, one after the other.
const endedTasks = 32

// task is a command that outlives the connection that asked for it, so that a run whose
// service died attaches again instead of running the command twice.
type task struct {
	process *process
	output  *history
}

func (s *Server) task(new connection.NewChannel) {
	var q wire.TaskRequest
	if err := json.Unmarshal(new.ExtraData(), &q); err != nil {
		_ = new.Reject(ssh.ConnectionFailed, "cannot read the request: "+err.Error())
		return
	}
	t, err := s.startTask(q)
	if err != nil {
		_ = new.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	channel, requests, err := new.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	output := t.output.follow()
	defer output.Close()
	go func() {
		for r := range requests {
			if r.Type == "signal" {
				var name signalName
				if sig, known := signals[name.Name]; ssh.Unmarshal(r.Payload, &name) == nil && known {
					t.process.signalGroup(sig)
				}
			}
			if r.WantReply {
				_ = r.Reply(false, nil)
			}
		}
		output.Close() // the service is gone
	}()
	if err := splice.Copy(channel, output); err != nil {
		return
	}
	<-t.process.done
	if s.ending.Load() && t.process.status.Signaled() {
		return // it did not end by itself: who asked for it asks again when the instance is back
	}
	sendExit(channel, t.process.status)
}

func (s *Server) startTask(q wire.TaskRequest) (*task, error) {
	p, err := s.current()
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if t := s.tasks[q.Key]; t != nil {
		return t, nil
	}
	c := command{args: q.Args, folder: p.start(), user: p.account, env: p.with(q.Env)}
	if q.Shell != "" {
		c.args = []string{"/bin/sh", "-c", q.Shell}
	}
	if len(c.args) == 0 {
		return nil, errEmptyTask
	}
	c.path = lookIn(p.env["PATH"], c.args[0])
	null, err := os.Open(os.DevNull)
	if err != nil {
		return nil, err
	}
	defer null.Close()
	out, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer w.Close()
	c.files = []*os.File{null, w, w}
	t := &task{output: newHistory(taskHistory)}
	if t.process, err = s.spawner.start(c); err != nil {
		out.Close()
		return nil, err
	}
	s.tasks[q.Key] = t
	go func() {
		// A daemon that the command leaves behind may hold the pipe for ever: what counts
		// is the command's own end. Its last output is in the pipe by then.
		read := make(chan struct{})
		go func() {
			defer close(read)
			_ = splice.Copy(t.output, out)
		}()
		<-t.process.done
		drain(out, read)
		t.output.Close()
		s.forgetTasks(q.Key)
	}()
	return t, nil
}

// forgetTasks notes that a task has ended, and forgets those that ended long ago.
func (s *Server) forgetTasks(ended string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.over = append(s.over, ended)
	for len(s.over) > endedTasks {
		delete(s.tasks, s.over[0])
		s.over = s.over[1:]
	}
}
