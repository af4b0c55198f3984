// Package machine is the site kind for workspaces that have a machine of their own: a computer
// that is made for one workspace, in which an engine and the agent run. Who makes machines is a
// Maker (package vm for virtual ones of this host); what is done in them is what is done at every
// engine (package engine), through the stream that leads to the machine's.
package machine

import (
	"context"
	"errors"
	"net"
	"time"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/plan"
)

// Shape is what a machine is made of.
type Shape struct {
	Processors int
	Memory     int64 // bytes
	Disk       int64 // bytes; it takes what is written
	// Screen is the size of its screen in pixels, such as 1280x800; empty: it has none.
	Screen string `json:",omitempty"`
	// Base names what the machine begins with beyond a bare engine; empty: nothing. Machines of
	// one base and one size come from one template.
	Base string
	// Data is the file of a disk that the engine's data begins with; empty: it is made as the
	// base wants it.
	Data string
}

// The states of machines.
const (
	Off     = "off" // made, or stopped: its disks are there
	Running = "running"
	Asleep  = "asleep" // its memory is kept: it goes on where it was
)

// Machine is a machine that was made.
type Machine struct {
	ID    string // of its workspace, as the site names it
	State string
	Shape Shape
	Mark  string // what the site keeps with it
	Bytes int64  // what it takes of the disk
	// NoWayOut tells of one that runs that it got none when it was started, for the engine of the host
	// did not answer.
	NoWayOut bool
}

// Spare is something that is kept because machines could come from it, or that nobody knows.
type Spare struct {
	Name  string
	Why   string // it is not used; empty: no machine comes from it, and it is made again when one is to
	Bytes int64  // what it takes of the disk
	Used  time.Time
}

// Facts are what was found of what makes machines.
type Facts struct {
	What       string // in words, such as "QEMU 7.2.22, software emulation"
	Processors int
	Memory     int64 // bytes
	DiskFree   int64 // bytes
	// Sizes are those that machines can have, where they are given, with all of a machine's memory.
	Sizes []plan.Size
	// Most is the most memory that one machine can have, in bytes; 0: a part of the host's.
	Most int64
}

// Screens is a maker whose machines can have a screen.
type Screens interface {
	// Screen opens a stream of the RFB protocol (RFC 6143) to the screen of a machine that runs.
	Screen(ctx context.Context, id string) (net.Conn, error)
	// Picture is what the screen of a machine that runs shows, as PNG.
	Picture(ctx context.Context, id string) ([]byte, error)
}

// Doing does something at an engine that is reached by dial.
type Doing func(ctx context.Context, dial func(ctx context.Context) (net.Conn, error)) error

// Prepare is what is done once for machines that have the same beginning.
type Prepare struct {
	// Fill brings to their disk all that each of them would have to bring.
	Fill Doing
	// Warm does, in a machine whose memory the others will have, what takes an engine long the first
	// time only; nil: nothing.
	Warm Doing
}

// ErrForgets is answered by a maker that keeps no memory of machines.
var ErrForgets = errors.New("no memory of machines is kept here")

// JudgeID refuses what is the id of no workspace.
func JudgeID(id string) error {
	if !channel.IsID(id) {
		return fault.New("bad-id", "", "%q is the id of no workspace", id)
	}
	return nil
}

// Maker makes machines, starts and stops them, and leads to them. Every method can be called
// again after a crash. Its errors are *fault.Fault where a person can act on them.
type Maker interface {
	// Examine looks at what makes machines.
	Examine(ctx context.Context) (Facts, error)
	// Ensure makes a machine, off, unless it is there; one that is there gets the processors, the
	// memory and the screen of the shape, and is turned off where it has others. Where a template is made for it, it is
	// prepared; nil: with nothing.
	Ensure(ctx context.Context, id string, shape Shape, prepare *Prepare) error
	// Start has a machine run, where the host has room for it: it goes on where it was, or comes from its template, or boots. One
	// that runs stays as it is. how tells in words which of these it was.
	Start(ctx context.Context, id string) (how string, err error)
	// Suspend keeps the memory of a machine and ends it. One that does not run stays as it is. A
	// maker that keeps no memory answers ErrForgets: what stops is turned off.
	Suspend(ctx context.Context, id string) error
	// Stop turns a machine off; its disks stay.
	Stop(ctx context.Context, id string) error
	// Remove removes a machine with its disks. What is not there is no error.
	Remove(ctx context.Context, id string) error
	// Find looks for a machine, without waking it.
	Find(ctx context.Context, id string) (m Machine, found bool, err error)
	// List lists the machines, without waking any.
	List(ctx context.Context) ([]Machine, error)
	// Spares lists what machines could come from and none does.
	Spares(ctx context.Context) ([]Spare, error)
	// RemoveSpare removes one, unless a machine comes from it by now.
	RemoveSpare(ctx context.Context, name string) error
	// Mark keeps a mark with a machine.
	Mark(ctx context.Context, id, mark string) error
	// Dial opens a stream to what a word of package channel names in a machine that runs.
	Dial(ctx context.Context, id, to string) (net.Conn, error)
}
