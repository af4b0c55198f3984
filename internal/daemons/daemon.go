package daemons

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"
)

// readyLimit is how long a server may take until it answers.
const readyLimit = 60 * time.Second

// stopLimit is how long a server has to end before it is killed. An engine stops all of its
// containers first, and one that is killed leaves them and their mounts behind.
const stopLimit = 75 * time.Second

// daemon is a child process that is a server.
type daemon struct {
	name string
	cmd  *exec.Cmd
	log  string // the file that it prints to
	done chan struct{}
}

// start starts a server and waits until ready says that it answers.
func start(ctx context.Context, folder, name string, cmd *exec.Cmd, ready func(context.Context) error) (*daemon, error) {
	d := &daemon{name: name, cmd: cmd, log: filepath.Join(folder, name+".log"), done: make(chan struct{})}
	log, err := os.Create(d.log)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd.Stdout, cmd.Stderr = log, log
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	// Ctrl-C must reach the one who started it first, and its death must end it.
	cmd.SysProcAttr.Setpgid, cmd.SysProcAttr.Pdeathsig = true, syscall.SIGINT
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("start %s: %w", name, err)
	}
	go func() {
		_ = cmd.Wait()
		close(d.done)
	}()
	ctx, cancel := context.WithTimeout(ctx, readyLimit)
	defer cancel()
	for {
		err := ready(ctx)
		if err == nil {
			return d, nil
		}
		select {
		case <-d.done:
			return nil, fmt.Errorf("%s %w; it said:\n%s", name, errEnded, d.lastWords())
		case <-ctx.Done():
			d.stop(syscall.SIGKILL)
			return nil, fmt.Errorf("%s did not answer: %w; it said:\n%s", name, err, d.lastWords())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// errEnded tells of a server that ended before it answered.
var errEnded = errors.New("ended at once")

// lastWords is the end of what the server printed, from where it panicked.
func (d *daemon) lastWords() string {
	b, err := os.ReadFile(d.log)
	if err != nil {
		return err.Error()
	}
	const most = 2000
	if at := bytes.LastIndex(b, []byte("panic: ")); at >= 0 {
		return string(b[at:min(len(b), at+most)])
	}
	return string(b[max(0, len(b)-most):])
}

// stop sends a signal and waits for the end, at last by force.
func (d *daemon) stop(sig syscall.Signal) {
	if d == nil { // it did not get to run; why is told by who started it
		return
	}
	_ = d.cmd.Process.Signal(sig)
	select {
	case <-d.done:
	case <-time.After(stopLimit):
		_ = d.cmd.Process.Kill()
		<-d.done
	}
}

// FreePort finds a TCP port on loopback: the preferred one where it is free, else any.
func FreePort(preferred int) (int, error) {
	for _, port := range []int{preferred, 0} {
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			defer l.Close()
			return l.Addr().(*net.TCPAddr).Port, nil
		}
	}
	return 0, errors.New("no port is free on loopback")
}
