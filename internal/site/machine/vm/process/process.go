// Package process finds the processes of virtual machines by the machines' folders, and ends them:
// they go on while who started them is away.
package process

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"domicile/internal/fault"
)

const (
	// Program is what runs a machine.
	Program = "qemu-system-x86_64"
	// NumberFile is the file of a machine's folder in which its process leaves its number.
	NumberFile = "pid"
)

// Runs tells whether the machine of a folder has a process: one that works in the folder, by the
// number that it left there. The number of one that has ended may be another's.
func Runs(folder string) bool { _, running := find(folder); return running }

func find(folder string) (pid int, running bool) {
	b, err := os.ReadFile(filepath.Join(folder, NumberFile))
	if err != nil {
		return 0, false
	}
	pid, err = strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil || pid <= 1 {
		return 0, false
	}
	where, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return 0, false // it has ended
	}
	folder, err = filepath.EvalSymlinks(folder)
	if err != nil || where != folder {
		return 0, false
	}
	command, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return pid, err == nil && strings.HasPrefix(string(command), Program)
}

const (
	// endLimit is how long a process takes to be gone that was ended, endEvery how often it is
	// looked whether it is.
	endLimit = 5 * time.Second
	endEvery = 10 * time.Millisecond
)

// End ends the process of a machine; where there is none, nothing is done.
func End(ctx context.Context, folder string) error {
	pid, running := find(folder)
	if !running {
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("end the process of a machine: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, endLimit)
	defer cancel()
	for Runs(folder) {
		select {
		case <-time.After(endEvery):
		case <-ctx.Done():
			return fault.Transient(ctx.Err(), "machine-not-ended", "", "the process %d of a machine does not end", pid)
		}
	}
	return nil
}

// EndAll ends the machines and templates of a maker's folder; their disks stay.
func EndAll(ctx context.Context, folder string) error {
	files, err := filepath.Glob(filepath.Join(folder, "*", "*", NumberFile))
	if err != nil {
		return err
	}
	for _, f := range files {
		err = errors.Join(err, End(ctx, filepath.Dir(f)))
	}
	return err
}
