package vm

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"github.com/gofrs/flock"

	"domicile/internal/amount"
	"domicile/internal/fault"
	"domicile/internal/site/machine"
)

// roomFor lets a machine run where the host has the memory for it beside those that run, and
// notes that it is about to; done forgets that. What machines may take is counted, not what they
// take: that may grow at any moment.
func (m *Maker) roomFor(ctx context.Context, id string, shape machine.Shape) (done func(), err error) {
	all, err := hostMemory()
	if err != nil {
		return nil, err
	}
	all -= all / leftToHost
	lock := flock.New(m.in("machines", id, startLock), flock.SetPermissions(0o600))
	err = m.turns.Take(ctx, "the room", func() error {
		list, err := m.List(ctx)
		if err != nil {
			return err
		}
		taken := int64(0)
		for _, v := range list {
			if v.ID != id && (v.State == machine.Running || m.starts(v.ID)) {
				taken += v.Shape.Memory
			}
		}
		if taken+shape.Memory > all {
			return fault.New("no-room", "stop a workspace there, or choose another site or a smaller size", "a machine with %s of memory has no room: of the %s that machines may have, %s are taken", amount.Of(shape.Memory), amount.Of(all), amount.Of(taken))
		}
		return lock.Lock() // who starts it has its turn
	})
	if err != nil {
		return nil, err
	}
	return func() { lock.Close() }, nil
}

// starts tells whether somebody is about to have a machine run.
func (m *Maker) starts(id string) bool {
	lock := flock.New(m.in("machines", id, startLock), flock.SetPermissions(0o600))
	defer lock.Close()
	free, err := lock.TryLock()
	return err == nil && !free
}

// leftToHost is the part of the host's memory that machines leave to it.
const leftToHost = 10

// hostMemory is how much memory the host has, in bytes.
func hostMemory() (int64, error) {
	var info syscall.Sysinfo_t
	if err := syscall.Sysinfo(&info); err != nil {
		return 0, fmt.Errorf("look at the host's memory: %w", err)
	}
	return int64(info.Totalram) * int64(info.Unit), nil
}

// takes is how much the files of a folder take of the disk, in bytes: those with holes take less
// than they are long.
func takes(folder string) (bytes int64) {
	entries, _ := os.ReadDir(folder) // one that is being removed takes nothing
	for _, e := range entries {
		var s syscall.Stat_t
		if err := syscall.Lstat(filepath.Join(folder, e.Name()), &s); err == nil {
			bytes += s.Blocks * 512
		}
	}
	return bytes
}
