// Package datadisk makes disks for the engines of machines that are filled already: so an image
// comes into a machine as fast as files are copied, and not through the machine's own engine.
package datadisk

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// engineProgram is the engine that fills disks on this host.
const engineProgram = "dockerd"

// fillLimit is how long it has to start, and to stop.
const fillLimit = 30 * time.Second

// Fill makes a disk of a size for an engine's data, as the file Name in a folder: an engine of this
// host works on a folder, prepare is done in it, and the folder becomes the disk. Where this host
// has no such engine, the error is ErrNoEngine.
func Fill(ctx context.Context, folder string, size int64, prepare machine.Doing) (disk string, err error) {
	if _, err := exec.LookPath(engineProgram); err != nil || os.Getuid() != 0 {
		return "", ErrNoEngine
	}
	work := filepath.Join(folder, "fill")
	root := filepath.Join(work, "root")
	if err := os.MkdirAll(root, 0o700); err != nil {
		return "", err
	}
	defer os.RemoveAll(work)
	if err := fill(ctx, work, root, prepare); err != nil {
		return "", err
	}
	// What names the engine is another for each template.
	for _, name := range []string{"engine-id", "runtimes", "tmp", "network", "containerd/daemon/tmpmounts"} {
		if err := os.RemoveAll(filepath.Join(root, name)); err != nil {
			return "", err
		}
	}
	raw := filepath.Join(work, "raw")
	if out, err := exec.CommandContext(ctx, "mke2fs", "-q", "-t", "ext4", "-d", root, raw, strconv.FormatInt(size>>10, 10)).CombinedOutput(); err != nil {
		return "", fmt.Errorf("make a disk of an engine's data: %w: %s", err, out)
	}
	disk = filepath.Join(folder, Name)
	if out, err := exec.CommandContext(ctx, "qemu-img", "convert", "-O", "qcow2", raw, disk).CombinedOutput(); err != nil {
		return "", fmt.Errorf("write a disk of an engine's data: %w: %s", err, out)
	}
	return disk, nil
}

// Name is the file of a disk that was filled.
const Name = "base.qcow2"

// ErrNoEngine is answered where no engine of this host can fill a disk.
var ErrNoEngine = errors.New("no engine of this host can fill a disk")

// fill has an engine work on a folder while prepare is done in it. The engine has a network of
// its own, with nothing in it, and starts no container.
func fill(ctx context.Context, work, root string, prepare machine.Doing) error {
	// The engine's sockets lie deeper than paths of sockets may be long below most folders.
	run, err := os.MkdirTemp("/run", "domicile-fill-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(run)
	socket := filepath.Join(run, "engine.sock")
	settings := filepath.Join(work, "settings") // not the host's own
	if err := os.WriteFile(settings, []byte("{}"), 0o600); err != nil {
		return err
	}
	output, err := os.Create(filepath.Join(work, outputFile))
	if err != nil {
		return err
	}
	defer output.Close()
	c := exec.Command(engineProgram, "--data-root", root, "--exec-root", filepath.Join(run, "x"), "--pidfile", filepath.Join(work, process.NumberFile), "--host", "unix://"+socket, "--group", "root",
		"--bridge", "none", "--iptables=false", "--ip-forward=false", "--ip-masq=false", "--storage-driver", "overlay2", "--config-file", settings, "--log-level", "warn")
	c.Stdout, c.Stderr, c.Dir = output, output, "/"
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGTERM}
	// It is to end with this process, and that is told by the thread which started it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := c.Start(); err != nil {
		return fmt.Errorf("start an engine that fills a disk: %w", err)
	}
	over := make(chan struct{})
	go func() {
		_ = c.Wait() // its output says why
		close(over)
	}()
	dial := func(ctx context.Context) (net.Conn, error) { return (&net.Dialer{}).DialContext(ctx, "unix", socket) }
	err = func() error {
		if !waitUntil(ctx, fillLimit, func() bool {
			conn, err := dial(ctx)
			if err == nil {
				conn.Close()
			}
			return err == nil
		}) {
			said, _ := os.ReadFile(filepath.Join(work, outputFile))
			return fmt.Errorf("an engine that fills a disk does not start: %s", strings.TrimSpace(string(said[max(0, len(said)-mostSaid):])))
		}
		if err := prepare(ctx, dial); err != nil {
			return fmt.Errorf("%w%s", err, lastOf(work))
		}
		return nil
	}()
	_ = c.Process.Signal(syscall.SIGTERM) // what it holds is written
	select {
	case <-over:
	case <-time.After(fillLimit):
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		<-over
		err = errors.Join(err, errors.New("an engine that fills a disk did not stop"))
	}
	return err
}

// outputFile is the file in which stands what the engine says.
const outputFile = "output"

// mostSaid bounds what is told of it, in bytes.
const mostSaid = 400

func lastOf(folder string) string {
	b, err := os.ReadFile(filepath.Join(folder, outputFile))
	if err != nil || len(b) == 0 {
		return ""
	}
	return fmt.Sprintf(": %q", b[max(0, len(b)-mostSaid):])
}

// waitUntil waits until something is so, at most for a limit, and tells whether it is.
func waitUntil(ctx context.Context, limit time.Duration, so func() bool) bool {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for !so() {
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return so()
		}
	}
	return true
}
