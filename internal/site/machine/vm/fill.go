package vm

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

// filled makes a disk for an engine's data that is filled already: an engine of this host works
// on a folder, prepare is done in it, and the folder becomes the disk. So an image comes into a
// machine as fast as files are copied, and not through the machine's own engine. Where this host
// has no such engine, the error is errNoEngine.
func (m *Maker) filled(ctx context.Context, folder string, size int64, prepare machine.Prepare) (disk string, err error) {
	if _, err := exec.LookPath(engineProgram); err != nil || os.Getuid() != 0 {
		return "", errNoEngine
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
	disk = filepath.Join(folder, "base.qcow2")
	return disk, image(ctx, "convert", "-O", "qcow2", raw, disk)
}

// errNoEngine is answered where no engine of this host can fill a disk.
var errNoEngine = errors.New("no engine of this host can fill a disk")

// fill has an engine work on a folder while prepare is done in it. The engine has a network of
// its own, with nothing in it, and starts no container.
func fill(ctx context.Context, work, root string, prepare machine.Prepare) error {
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
	output, err := os.Create(filepath.Join(work, outputName))
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
			said, _ := os.ReadFile(filepath.Join(work, outputName))
			return fmt.Errorf("an engine that fills a disk does not start: %s", strings.TrimSpace(string(said[max(0, len(said)-mostSaid):])))
		}
		if err := prepare(ctx, dial); err != nil {
			return fmt.Errorf("%w%s", err, lastOf(work, outputName))
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
