// Package vm makes virtual machines on the service's host with QEMU. A machine is a folder: its
// shape, its disks, which hold what differs from the disks it comes from, its sockets, and, while
// it sleeps, its memory. Machines are processes of their own: they go on while the service is
// away, and are found again by their folders.
//
// A machine that is new comes from a template: one that was booted, and frozen with its engine
// running. Its memory is a file that clones map and change for themselves, so that a clone takes
// about as long as QEMU to start. A machine whose template does not fit any more boots.
package vm

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// Options say where machines are and what they are made from.
type Options struct {
	// Folder holds the machines and templates. The paths of sockets in it must fit: it is short.
	Folder string
	// Image is the folder with what machines begin with (scripts/machine-image).
	Image string
	// Outlet gives the network that a machine's process is in, and so what the machine reaches; nil,
	// or none: one with nothing in it.
	Outlet func(ctx context.Context, id string) (*os.File, error)
	// Say tells of what a person who looks after the service should know; nil: nobody.
	Say func(format string, args ...any)
}

// Maker makes virtual machines.
type Maker struct {
	o Options

	turns  machine.Turns // by machine, by template
	making sync.RWMutex  // read while a machine is made from a template

	mu        sync.Mutex
	lines     map[string]line // by machine
	chosen    *accelerator
	processes sync.WaitGroup // that this one started
}

var (
	_ machine.Maker   = (*Maker)(nil)
	_ machine.Screens = (*Maker)(nil)
)

// New makes a maker of machines.
func New(o Options) (*Maker, error) {
	if o.Say == nil {
		o.Say = func(string, ...any) {}
	}
	m := &Maker{o: o, lines: map[string]line{}}
	m.turns.Folder = m.in("turns")
	for _, folder := range []string{o.Folder, m.in("machines"), m.in("templates")} {
		if err := os.MkdirAll(folder, 0o711); err != nil {
			return nil, fmt.Errorf("make the folder of machines: %w", err)
		}
	}
	for _, name := range []string{rootName, kernelName, initrdName, withScreen + kernelName, withScreen + initrdName} {
		if _, err := os.Stat(filepath.Join(o.Image, name)); err != nil {
			return nil, fault.Wrap(err, "no-machine-image", "make it: scripts/machine-image "+o.Image, "there is nothing for machines to begin with in %s", o.Image)
		}
	}
	return m, nil
}

func (m *Maker) in(parts ...string) string {
	return filepath.Join(append([]string{m.o.Folder}, parts...)...)
}

// folder is where a machine is.
func (m *Maker) folder(id string) (string, error) {
	if err := machine.JudgeID(id); err != nil {
		return "", err
	}
	return m.in("machines", id), nil
}

// The files of a machine's folder.
const (
	recordName  = "machine.json"
	markName    = "mark"
	diskName    = "disk.qcow2"
	dataName    = "data.qcow2"
	memoryName  = "memory.s2" // while it sleeps
	monitorName = "monitor.sock"
	controlName = "control.sock"
	dataPort    = "data.sock"
	consoleName = "console"
	screenName  = "screen.sock"
	pictureName = "picture.png" // for a moment
	startLock   = "start.lock"  // held by who starts it
	closedName  = "no-way-out"  // it was started without one
	startedName = "started"     // it ran: its disks are no longer those of its template
)

// record is what is kept of a machine.
type record struct {
	Shape    machine.Shape `json:"shape"`
	Template string        `json:"template,omitempty"` // whose disks its own begin with
	Disks    disks         `json:"disks"`
}

// errNone is a machine that is not there.
func errNone(id string) error {
	return fault.New("machine-gone", "provision the workspace again", "the machine of the workspace %s is not there", id)
}

func (m *Maker) read(id string) (folder string, r record, err error) {
	if folder, err = m.folder(id); err != nil {
		return "", r, err
	}
	b, err := os.ReadFile(filepath.Join(folder, recordName))
	if errors.Is(err, fs.ErrNotExist) {
		return "", r, errNone(id)
	}
	if err == nil {
		err = json.Unmarshal(b, &r)
	}
	if err != nil {
		return "", r, fmt.Errorf("read the machine of %s: %w", id, err)
	}
	return folder, r, nil
}

// Ensure makes a machine's folder and its disks. A folder without a record was not finished.
func (m *Maker) Ensure(ctx context.Context, id string, shape machine.Shape, prepare *machine.Prepare) error {
	return m.turns.Take(ctx, id, func() error {
		folder, r, err := m.read(id)
		if err == nil {
			return m.reshape(ctx, id, folder, r, shape)
		}
		if fault.Code(err) != "machine-gone" {
			return err
		}
		if folder, err = m.folder(id); err != nil {
			return err
		}
		if err := errors.Join(os.RemoveAll(folder), os.MkdirAll(folder, 0o711)); err != nil {
			return fmt.Errorf("make the folder of a machine: %w", err)
		}
		m.making.RLock()
		defer m.making.RUnlock()
		r = record{Shape: shape}
		switch r.Template, err = m.template(ctx, shape, prepare); {
		case err != nil && ctx.Err() != nil:
			return err
		case err != nil:
			m.o.Say("a template of machines could not be made; this one boots: %v", err)
			r.Template = ""
		}
		if r.Disks, err = m.beginnings(ctx, r, ""); err != nil {
			return err
		}
		if err := makeDisks(ctx, folder, r.Disks, shape.Disk); err != nil {
			return err
		}
		return writeJSON(filepath.Join(folder, recordName), r)
	})
}

// reshape gives a machine that is there the processors, the memory and the screen of another shape: it is
// turned off for that, and boots with them. Its disks stay.
func (m *Maker) reshape(ctx context.Context, id, folder string, r record, shape machine.Shape) error {
	if r.Shape.Processors == shape.Processors && r.Shape.Memory == shape.Memory && r.Shape.Screen == shape.Screen {
		return nil
	}
	if err := m.turnOff(ctx, id, folder); err != nil {
		return err
	}
	// What is kept of its memory, and its template's, are of the earlier size.
	if err := os.Remove(filepath.Join(folder, memoryName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := writeFile(filepath.Join(folder, startedName), nil); err != nil {
		return err
	}
	r.Shape.Processors, r.Shape.Memory, r.Shape.Screen = shape.Processors, shape.Memory, shape.Screen
	return writeJSON(filepath.Join(folder, recordName), r)
}

func writeJSON(file string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return writeFile(file, b)
}

// writeFile writes a file whole, or not at all.
func writeFile(file string, b []byte) error {
	if err := os.WriteFile(file+".new", b, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// Find looks for a machine.
func (m *Maker) Find(_ context.Context, id string) (machine.Machine, bool, error) {
	folder, r, err := m.read(id)
	if fault.Code(err) == "machine-gone" {
		return machine.Machine{}, false, nil
	}
	if err != nil {
		return machine.Machine{}, false, err
	}
	mark, err := os.ReadFile(filepath.Join(folder, markName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return machine.Machine{}, false, fmt.Errorf("read the mark of %s: %w", id, err)
	}
	now := state(folder)
	_, closed := os.Stat(filepath.Join(folder, closedName))
	return machine.Machine{ID: id, State: now, Shape: r.Shape, Mark: string(mark), Bytes: takes(folder), NoWayOut: now == machine.Running && closed == nil}, true, nil
}

// state tells how the machine of a folder is.
func state(folder string) string {
	if process.Runs(folder) {
		return machine.Running
	}
	if _, err := os.Stat(filepath.Join(folder, memoryName)); err == nil {
		return machine.Asleep
	}
	return machine.Off
}

// List lists the machines, by their ids.
func (m *Maker) List(ctx context.Context) (list []machine.Machine, err error) {
	entries, err := os.ReadDir(m.in("machines"))
	if err != nil {
		return nil, fmt.Errorf("list the machines: %w", err)
	}
	for _, e := range entries {
		if machine.JudgeID(e.Name()) != nil {
			continue
		}
		v, found, err := m.Find(ctx, e.Name())
		if err != nil {
			return nil, err
		}
		if found {
			list = append(list, v)
		}
	}
	slices.SortFunc(list, func(a, b machine.Machine) int { return cmp.Compare(a.ID, b.ID) })
	return list, nil
}

// Mark keeps a mark with a machine.
func (m *Maker) Mark(_ context.Context, id, mark string) error {
	folder, _, err := m.read(id)
	if err != nil {
		return err
	}
	return writeFile(filepath.Join(folder, markName), []byte(mark))
}

// Remove ends a machine and removes its folder.
func (m *Maker) Remove(ctx context.Context, id string) error {
	return m.turns.Take(ctx, id, func() error {
		folder, err := m.folder(id)
		if err != nil {
			return err
		}
		m.dropLine(id)
		if err := process.End(ctx, folder); err != nil {
			return err
		}
		if err := os.RemoveAll(folder); err != nil {
			return fmt.Errorf("remove the machine of %s: %w", id, err)
		}
		return nil
	})
}

// Stop turns a machine off, when its engine has had a moment for what it has to write.
func (m *Maker) Stop(ctx context.Context, id string) error {
	return m.turns.Take(ctx, id, func() error {
		folder, _, err := m.read(id)
		if err != nil {
			return err
		}
		return m.turnOff(ctx, id, folder)
	})
}

func (m *Maker) turnOff(ctx context.Context, id, folder string) error {
	if !process.Runs(folder) {
		return nil
	}
	if line, err := m.line(ctx, id, folder); err == nil {
		if stream, err := line.Dial(ctx, channel.ToOff); err == nil {
			stream.Close()
		}
	}
	m.dropLine(id)
	waitUntil(ctx, offLimit, func() bool { return !process.Runs(folder) })
	return process.End(ctx, folder)
}

// offLimit is how long a machine has to turn itself off.
const offLimit = 10 * time.Second

// Dial opens a stream into a machine.
func (m *Maker) Dial(ctx context.Context, id, to string) (net.Conn, error) {
	folder, _, err := m.read(id)
	if err != nil {
		return nil, err
	}
	if !process.Runs(folder) {
		return nil, fault.Transient(nil, "machine-off", "domicile start wakes it", "the machine of the workspace %s does not run", id)
	}
	line, err := m.line(ctx, id, folder)
	if err != nil {
		return nil, err
	}
	return line.Dial(ctx, to)
}

// Close leaves the machines, which go on.
func (m *Maker) Close() {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, l := range m.lines {
		l.Close()
		delete(m.lines, id)
	}
}
