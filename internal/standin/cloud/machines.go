package cloud

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"domicile/internal/netspace"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/cloud/provider"
	"domicile/internal/site/machine/vm"
)

// Machines are virtual machines of this host as instances. They are in a network of their own,
// from which nothing is reached but the named addresses of this host, as 10.0.2.2 with the same
// ports: such as that where instances call the service.
type Machines struct {
	maker *vm.Maker
	space *netspace.Space
}

// NewMachines makes machines below a folder, from what scripts/machine-image put into image;
// reach are addresses of this host's loopback.
func NewMachines(folder, image string, reach []string, say func(format string, args ...any)) (*Machines, error) {
	space, err := netspace.Make(reach...)
	if err != nil {
		return nil, err
	}
	m := &Machines{space: space}
	for n, l := range space.Listeners {
		go netspace.Join(l, reach[n])
	}
	outlet := func(context.Context, string) (*os.File, error) { return space.Again() }
	if m.maker, err = vm.New(vm.Options{Folder: folder, Image: image, Outlet: outlet, Say: say}); err != nil {
		return nil, errors.Join(err, space.Close())
	}
	return m, nil
}

// Close leaves the machines, which go on; their network goes with this process.
func (m *Machines) Close() error {
	m.maker.Close()
	return m.space.Close()
}

// Make makes a machine, has it run, and gives it its first-boot data.
func (m *Machines) Make(ctx context.Context, id string, size provider.Size, disk, first string) error {
	shape := machine.Shape{Processors: size.Processors, Memory: size.MemoryBytes, Disk: size.DiskBytes, Base: filepath.Base(disk), Data: disk}
	if err := m.maker.Ensure(ctx, id, shape, nil); err != nil {
		return err
	}
	if _, err := m.maker.Start(ctx, id); err != nil {
		return err
	}
	return m.maker.Give(ctx, id, []byte(first))
}

// Start has a machine run again.
func (m *Machines) Start(ctx context.Context, id string) error {
	_, err := m.maker.Start(ctx, id)
	return err
}

// Stop has a machine stop. It keeps its memory, which is more than a provider promises, and goes
// on in a moment.
func (m *Machines) Stop(ctx context.Context, id string) error {
	if err := m.maker.Suspend(ctx, id); err != nil {
		return errors.Join(m.maker.Stop(ctx, id), ctx.Err())
	}
	return nil
}

// Remove removes a machine.
func (m *Machines) Remove(ctx context.Context, id string) error {
	if err := m.maker.Remove(ctx, id); err != nil {
		return fmt.Errorf("remove the machine of %s: %w", id, err)
	}
	return nil
}
