package vm

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"
	"golang.org/x/sync/errgroup"

	"domicile/internal/fault"
	"domicile/internal/site"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// How a machine came to run.
const (
	Ran     = "it ran"
	Resumed = "it goes on where it was"
	Cloned  = "it comes from a template"
	Booted  = "it booted"
)

// Start has a machine run. What does not work costs time and no more: a machine whose memory
// cannot be read, or whose template does not fit, boots from its disks.
func (m *Maker) Start(ctx context.Context, id string) (how string, err error) {
	err = m.turns.Take(ctx, id, func() error {
		folder, r, err := m.read(id)
		if err != nil {
			return err
		}
		if process.Runs(folder) {
			how = Ran
			return nil
		}
		done, err := m.roomFor(ctx, id, r.Shape)
		if err != nil {
			return err
		}
		defer done()
		a, err := m.accelerator(ctx)
		if err != nil {
			return err
		}
		m.dropLine(id)
		for _, way := range m.ways(folder, r) {
			began := time.Now()
			if how, err = way.how, way.start(ctx, id, folder, r, a); err == nil {
				site.Tell(ctx, "the machine runs: %s (%.1f s)", how, time.Since(began).Seconds())
				return nil
			}
			if endErr := process.End(context.WithoutCancel(ctx), folder); endErr != nil || ctx.Err() != nil {
				return errors.Join(err, endErr)
			}
			m.dropLine(id)
			m.o.Say("the machine of %s does not come to run in one way (%s), and is tried in another: %v", id, way.how, err)
		}
		return err
	})
	return how, err
}

// way is one way in which a machine may come to run.
type way struct {
	how   string
	start func(ctx context.Context, id, folder string, r record, a accelerator) error
}

// ways are those by which the machine of a folder may come to run, the fastest first.
func (m *Maker) ways(folder string, r record) (list []way) {
	if _, err := os.Stat(filepath.Join(folder, memoryName)); err == nil {
		list = append(list, way{Resumed, m.resume})
	} else if _, err := os.Stat(filepath.Join(folder, startedName)); errors.Is(err, fs.ErrNotExist) && r.Template != "" {
		list = append(list, way{Cloned, m.clone})
	}
	return append(list, way{Booted, m.boot})
}

// resume starts a machine with its memory.
func (m *Maker) resume(ctx context.Context, id, folder string, r record, a accelerator) error {
	kept := filepath.Join(folder, memoryName)
	f, err := os.Open(kept)
	if err != nil {
		return err
	}
	defer f.Close()
	// From here on its disks change: what was kept of its memory does not fit them any more.
	if err := os.Rename(kept, kept+".used"); err != nil {
		return err
	}
	err = m.load(ctx, launching{folder: folder, outlet: true, shape: r.Shape, disks: r.Disks}, a, false, func(w io.Writer) error {
		_, err = s2.NewReader(f).DecodeConcurrent(w, 2)
		return err
	})
	if err != nil {
		return err
	}
	if err := m.awake(ctx, id, folder, wakeLimit); err != nil {
		return err
	}
	return os.Remove(kept + ".used")
}

// clone starts a machine as its template was.
func (m *Maker) clone(ctx context.Context, id, folder string, r record, a accelerator) error {
	if err := writeFile(filepath.Join(folder, startedName), nil); err != nil {
		return err
	}
	err := m.load(ctx, launching{folder: folder, outlet: true, shape: r.Shape, disks: r.Disks, memory: clone, ram: m.in("templates", r.Template, ramName)}, a, true, func(w io.Writer) error {
		f, err := os.Open(m.in("templates", r.Template, stateName))
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(w, f)
		return err
	})
	if err != nil {
		return err
	}
	return m.awake(ctx, id, folder, wakeLimit)
}

// boot starts a machine from its disks.
func (m *Maker) boot(ctx context.Context, id, folder string, r record, a accelerator) error {
	if err := writeFile(filepath.Join(folder, startedName), nil); err != nil {
		return err
	}
	_ = os.Remove(filepath.Join(folder, memoryName+".used"))
	if err := m.launch(ctx, launching{folder: folder, outlet: true, shape: r.Shape, disks: r.Disks}, a); err != nil {
		return err
	}
	return m.booted(ctx, id, folder)
}

// booted waits until a machine that boots is awake, and tells what it prints on its console.
func (m *Maker) booted(ctx context.Context, id, folder string) error {
	over := make(chan struct{})
	var told sync.WaitGroup
	told.Go(func() {
		for last := false; !last; {
			select {
			case <-over:
				last = true
			case <-ctx.Done():
				return
			case <-time.After(consoleEvery):
			}
			for line := range strings.Lines(printed(ctx, folder)) {
				if line = strings.TrimSpace(line); line != "" {
					site.Tell(ctx, "console: %s", line)
				}
			}
		}
	})
	err := m.awake(ctx, id, folder, bootLimit)
	close(over)
	told.Wait()
	return err
}

// consoleEvery is how often a console is looked at while somebody waits for its machine.
const consoleEvery = time.Second

// bootLimit bounds how long a machine takes until its engine answers; in software, on a busy
// host, that is minutes.
const bootLimit = 8 * time.Minute

// wakeLimit bounds how long a machine takes whose engine ran already: one in which it was ended
// boots.
const wakeLimit = 90 * time.Second

// aloneEvery is how often a machine is asked that does not answer yet.
const aloneEvery = 50 * time.Millisecond

// awake waits until a machine answers, wakes it, and waits for its engine.
func (m *Maker) awake(ctx context.Context, id, folder string, limit time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var in line
	for {
		var err error
		if in, err = m.line(ctx, id, folder); err == nil {
			break
		}
		if !process.Runs(folder) {
			return m.ended(folder)
		}
		select {
		case <-ctx.Done():
			return fault.Transient(err, "machine-silent", "look at its console", "the machine of the workspace %s does not answer%s", id, console(ctx, folder))
		case <-time.After(aloneEvery):
		}
	}
	// Both at once: each takes a while in a machine that has only just begun to work.
	all, both := errgroup.WithContext(ctx)
	all.Go(func() error { return wake(both, in, "machine-"+id) })
	all.Go(func() error { return engineAnswers(both, in, folder) })
	return all.Wait()
}

// engineAnswers waits until a machine's engine answers.
func engineAnswers(ctx context.Context, in line, folder string) error {
	for {
		err := machine.Ping(ctx, in)
		if err == nil {
			return nil
		}
		select {
		case <-in.Over():
			return fault.Transient(err, "machine-silent", "", "the machine ended while its engine started%s", console(ctx, folder))
		case <-ctx.Done():
			return fault.Transient(errors.Join(err, ctx.Err()), "machine-silent", "look at its console", "the engine of the machine does not answer%s", console(ctx, folder))
		case <-time.After(aloneEvery):
		}
	}
}

// ended tells why a machine has ended.
func (m *Maker) ended(folder string) error {
	return fault.New("machine-ended", "see what QEMU says", "the machine ended%s", lastOf(folder, outputName))
}

// console is the end of what a machine printed on its console since that was last read, for a
// message.
func console(ctx context.Context, folder string) string {
	said := printed(ctx, folder)
	if said == "" {
		return ""
	}
	return fmt.Sprintf(": %q", said[max(0, len(said)-mostSaid):])
}

// printed is what a machine printed on its console since that was last read; empty: nothing, or it
// cannot be told.
func printed(ctx context.Context, folder string) string {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	var said string
	err := monitor(ctx, folder, func(ask func(string, any) (json.RawMessage, error)) error {
		b, err := ask("ringbuf-read", map[string]any{"device": consoleName, "size": consoleSize, "format": "utf8"})
		if err != nil {
			return err
		}
		return json.Unmarshal(b, &said)
	})
	if err != nil {
		return ""
	}
	return said
}

// lastOf is the end of what QEMU says, for a message.
func lastOf(folder, name string) string {
	b, err := os.ReadFile(filepath.Join(folder, name))
	if err != nil || len(b) == 0 {
		return ""
	}
	return fmt.Sprintf(": %q", b[max(0, len(b)-mostSaid):])
}

// Suspend keeps a machine's memory, packed, and ends its process.
func (m *Maker) Suspend(ctx context.Context, id string) error {
	return m.turns.Take(ctx, id, func() error {
		folder, _, err := m.read(id)
		if err != nil || !process.Runs(folder) {
			return err
		}
		m.dropLine(id)
		kept := filepath.Join(folder, memoryName)
		err = save(ctx, folder, false, func(r io.Reader) error { return pack(r, kept+".new") })
		if err != nil {
			_ = os.Remove(kept + ".new")
			goOn, done := context.WithTimeout(context.WithoutCancel(ctx), monitorLimit)
			defer done()
			_ = monitor(goOn, folder, func(ask func(string, any) (json.RawMessage, error)) error { _, err := ask("cont", nothing); return err }) // as if nothing had been
			return fmt.Errorf("keep the memory of a machine: %w", err)
		}
		if err := process.End(ctx, folder); err != nil {
			return err
		}
		return os.Rename(kept+".new", kept)
	})
}

// pack writes a stream, packed, into a file.
func pack(r io.Reader, file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	w := s2.NewWriter(f)
	if _, err := w.ReadFrom(r); err != nil {
		return err
	}
	return errors.Join(w.Close(), f.Sync())
}
