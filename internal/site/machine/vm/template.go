package vm

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"

	"domicile/internal/amount"
	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/site"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/datadisk"
	"domicile/internal/site/machine/vm/process"
)

// The files of a template's folder, beside its disks.
const (
	ramName   = "ram"   // its memory
	stateName = "state" // all else
)

// given takes a disk that somebody else made into the folder of a template, unless it leads to
// other files. Its own file may go.
func given(file, folder string) (string, error) {
	into := filepath.Join(folder, datadisk.Name)
	if err := os.Link(file, into); err != nil {
		return "", fmt.Errorf("take a disk that was given: %w", err)
	}
	if err := judgeDisk(into, ""); err != nil {
		return "", fault.Wrap(err, "disk-refused", "", "a disk that was given is none to begin with")
	}
	return into, nil
}

// quitLimit is how long a machine that becomes a template takes to write what it holds and to end.
const quitLimit = 20 * time.Second

// template gives the name of the template for machines of a shape, and makes it where there is
// none.
func (m *Maker) template(ctx context.Context, shape machine.Shape, prepare *machine.Prepare) (string, error) {
	a, err := m.accelerator(ctx)
	if err != nil {
		return "", err
	}
	name, err := m.templateName(shape, a)
	if err != nil {
		return "", err
	}
	return name, m.turns.Take(ctx, name, func() error {
		now := time.Now()
		if err := os.Chtimes(m.in("templates", name, stateName), now, now); err == nil {
			return nil // it is there, and is used
		}
		site.Tell(ctx, "making a template of machines with this image, with %d processors and %s of memory; those that follow are clones of it", shape.Processors, amount.Of(shape.Memory))
		m.o.Say("making a template of machines with %d processors and %d MB of memory", shape.Processors, shape.Memory>>20)
		if err := m.makeTemplate(ctx, name, shape, a, prepare); err != nil {
			return fmt.Errorf("make a template of machines: %w", err)
		}
		return nil
	})
}

// templateName is made from all that must be the same for a template to fit.
func (m *Maker) templateName(shape machine.Shape, a accelerator) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%d %d %d %s\n%s\n", a.version, shape.Processors, shape.Memory, shape.Disk, shape.Base, m.arguments(launching{folder: "/", shape: shape}, a))
	root, kernel, initrd := begins(shape)
	for _, name := range []string{root, kernel, initrd} {
		file, err := filepath.EvalSymlinks(filepath.Join(m.o.Image, name))
		if err != nil {
			return "", fmt.Errorf("look at what machines begin with: %w", err)
		}
		info, err := os.Stat(file)
		if err != nil {
			return "", fmt.Errorf("look at what machines begin with: %w", err)
		}
		fmt.Fprintf(h, "%s %d %d\n", file, info.Size(), info.ModTime().UnixNano())
	}
	return "t" + hex.EncodeToString(h.Sum(nil)[:8]), nil
}

// makeTemplate boots a machine, prepares it, and freezes it.
func (m *Maker) makeTemplate(ctx context.Context, name string, shape machine.Shape, a accelerator, prepare *machine.Prepare) (err error) {
	folder := m.in("templates", name)
	// One that was not finished may be there, and its process.
	if err := errors.Join(process.End(ctx, folder), os.RemoveAll(folder)); err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o711); err != nil {
		return err
	}
	defer func() {
		if endErr := process.End(context.WithoutCancel(ctx), folder); err == nil {
			err = endErr
		}
		if err != nil {
			os.RemoveAll(folder)
		}
	}()
	if prepare == nil {
		prepare = &machine.Prepare{}
	}
	data, fill := "", prepare.Fill
	switch {
	case shape.Data != "":
		if data, err = given(shape.Data, folder); err != nil {
			return err
		}
	case fill != nil:
		data, err = datadisk.Fill(ctx, folder, shape.Disk, fill)
		switch {
		case err == nil:
			fill = nil // it is done
		case ctx.Err() != nil:
			return err
		case !errors.Is(err, datadisk.ErrNoEngine):
			m.o.Say("an engine of this host could not fill the disk of a template, its own does: %v", err)
		}
	}
	d, err := m.beginnings(ctx, record{Shape: shape}, data)
	if err != nil {
		return err
	}
	if err := makeDisks(ctx, folder, d, shape.Disk); err != nil {
		return err
	}
	ram := filepath.Join(folder, ramName)
	if err := m.launch(ctx, launching{folder: folder, shape: shape, disks: d, memory: template, ram: ram}, a); err != nil {
		return err
	}
	if err := m.booted(ctx, name, folder); err != nil {
		return err
	}
	line, err := m.line(ctx, name, folder)
	if err != nil {
		return err
	}
	defer m.dropLine(name)
	dial := func(ctx context.Context) (net.Conn, error) { return line.Dial(ctx, channel.ToEngine) }
	if fill != nil {
		if err := fill(ctx, dial); err != nil {
			return err
		}
	}
	if prepare.Warm != nil {
		if err := prepare.Warm(ctx, dial); err != nil && ctx.Err() == nil { // it is slower without
			m.o.Say("nothing could be begun in a machine that becomes a template: %v", err)
		}
	}
	own, is := line.(*ownLine)
	if !is {
		return errors.New("another service has the ports of the machine that becomes a template")
	}
	if err := own.Rest(ctx); err != nil {
		return err
	}
	state := filepath.Join(folder, stateName)
	err = save(ctx, folder, true, func(r io.Reader) error {
		f, err := os.Create(state + ".new")
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(f, r)
		return err
	})
	if err != nil {
		return err
	}
	// QEMU writes what it holds of the disks when it quits.
	_ = monitor(ctx, folder, func(ask func(string, any) (json.RawMessage, error)) error { _, err := ask("quit", nothing); return err })
	if !waitUntil(ctx, quitLimit, func() bool { return !process.Runs(folder) }) {
		return fmt.Errorf("the machine that becomes a template does not end")
	}
	for name := range d { // from now on they are nobody's to write
		if err := os.Chown(filepath.Join(folder, name), 0, 0); err != nil {
			return err
		}
	}
	return os.Rename(state+".new", state)
}
