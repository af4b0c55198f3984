package vm

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"domicile/internal/fault"
)

// diskProgram makes disks.
const diskProgram = "qemu-img"

// disks are what the disks of a machine begin with, by the names of their files.
type disks map[string]string

// beginnings tell what the disks of a machine begin with. data is for its engine's data; empty:
// its template's, or an empty one.
func (m *Maker) beginnings(ctx context.Context, r record, data string) (d disks, err error) {
	root := filepath.Join(m.o.Image, rootName)
	switch {
	case r.Template != "":
		root, data = m.in("templates", r.Template, diskName), m.in("templates", r.Template, dataName)
	case data == "":
		if data, err = m.blank(ctx, r.Shape.Disk); err != nil {
			return nil, err
		}
	}
	if root, err = filepath.EvalSymlinks(root); err != nil {
		return nil, fmt.Errorf("look for the root file system of machines: %w", err)
	}
	return disks{diskName: root, dataName: data}, nil
}

// makeDisks makes the disks of a machine: they hold what differs from what they begin with. That
// for its engine's data is as large as is said, in bytes.
func makeDisks(ctx context.Context, folder string, d disks, data int64) error {
	all, ctx := errgroup.WithContext(ctx)
	for name, from := range d {
		all.Go(func() error {
			args := []string{"create", "-q", "-f", "qcow2", "-b", from, "-F", "qcow2", filepath.Join(folder, name)}
			if name == dataName {
				args = append(args, strconv.FormatInt(data, 10))
			}
			if err := image(ctx, args...); err != nil {
				return err
			}
			if err := os.Chown(filepath.Join(folder, name), owner(folder), owner(folder)); err != nil {
				return fmt.Errorf("give a machine its disk: %w", err)
			}
			return nil
		})
	}
	return all.Wait()
}

// judge refuses the disks of a machine that name other files than those they were made to begin
// with. The machine's process may write to them, also where it names these; and the next process
// opens what is named there as root.
func (d disks) judge(folder string) error {
	for name, from := range d {
		if err := judgeDisk(filepath.Join(folder, name), from); err != nil {
			return fault.Wrap(err, "disk-refused", "remove the workspace, and look what was done in it", "the disk %s of a machine is not as it was made", name)
		}
	}
	return nil
}

// The head of a disk's file (QEMU's specification of qcow2), its numbers with the high byte first.
const (
	headSize         = 80
	headVersion      = 4
	headBackingAt    = 8  // where the name of what it begins with is
	headBackingSize  = 16 // and how long it is
	headIncompatible = 72 // features that who reads it must know
	dataElsewhere    = 1 << 2
	mostBackingName  = 1023
)

var headMagic = []byte("QFI\xfb")

// judgeDisk looks at the head of a disk's file.
func judgeDisk(file, from string) error {
	f, err := os.OpenFile(file, os.O_RDONLY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, headSize)
	if _, err := io.ReadFull(f, head); err != nil {
		return fmt.Errorf("read its head: %w", err)
	}
	if !bytes.HasPrefix(head, headMagic) || binary.BigEndian.Uint32(head[headVersion:]) != 3 {
		return errors.New("its head is none")
	}
	if binary.BigEndian.Uint64(head[headIncompatible:])&dataElsewhere != 0 {
		return errors.New("it has its data in another file")
	}
	at, size := binary.BigEndian.Uint64(head[headBackingAt:]), binary.BigEndian.Uint32(head[headBackingSize:])
	if size > mostBackingName || at > 1<<20 {
		return errors.New("the name of what it begins with is out of place")
	}
	name := make([]byte, size)
	if _, err := f.ReadAt(name, int64(at)); err != nil {
		return fmt.Errorf("read the name of what it begins with: %w", err)
	}
	if string(name) != from {
		return fmt.Errorf("it begins with %q, not with %q", name, from)
	}
	return nil
}

// blank gives an empty disk of a size for the engine's data, and makes it where it is none yet.
func (m *Maker) blank(ctx context.Context, size int64) (file string, err error) {
	file = m.in("templates", fmt.Sprintf("blank-%d.qcow2", size))
	err = m.turns.Take(ctx, file, func() error {
		if _, err := os.Stat(file); err == nil {
			return nil
		}
		raw := file + ".raw"
		defer os.Remove(raw)
		if out, err := exec.CommandContext(ctx, "mke2fs", "-q", "-t", "ext4", raw, strconv.FormatInt(size>>10, 10)).CombinedOutput(); err != nil {
			return fmt.Errorf("make an empty disk: %w: %s", err, out)
		}
		if err := image(ctx, "convert", "-O", "qcow2", raw, file+".new"); err != nil {
			return err
		}
		return os.Rename(file+".new", file)
	})
	return file, err
}

// image runs the program that makes disks.
func image(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, diskProgram, args...).CombinedOutput()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return fault.Wrap(err, "no-qemu", "apt-get install --no-install-recommends qemu-utils", "the program that makes disks is not installed")
	case err != nil && strings.Contains(string(out), "No space left"):
		return fault.Wrap(err, "disk-full", "free some space, then try again", "the disk that machines are on is full")
	case err != nil:
		return fmt.Errorf("%s %s: %w: %s", diskProgram, args[0], err, out)
	}
	return nil
}
