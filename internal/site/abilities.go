package site

import (
	"context"
	"io"
	"net"
	"time"

	"domicile/internal/judge"
	"domicile/internal/plan"
)

// Beside is a site that runs services beside a workspace, on networks of its own.
type Beside interface {
	// EnsureNetworks makes the workspace's own networks, unless they are there.
	EnsureNetworks(ctx context.Context, workspace string, list plan.Judged[[]plan.Network]) error
	// EnsureService makes a service beside the workspace, stopped; one of the same digest
	// stays. Files of the repository that it wants come from source.
	EnsureService(ctx context.Context, workspace, digest string, v plan.Judged[plan.Service], source string) error
	// StartService starts a service.
	StartService(ctx context.Context, workspace, service string) error
	// Services tells how the services beside a workspace are.
	Services(ctx context.Context, workspace string) ([]Service, error)
}

// Placer is a site that makes a place for each workspace before anything is made in it.
type Placer interface {
	// EnsurePlace makes the place for an instance and the services beside it, unless it is there.
	EnsurePlace(ctx context.Context, workspace string, c plan.Judged[plan.Container], beside []plan.Judged[plan.Service]) error
}

// Overseer is a site that can be asked about single services.
type Overseer interface {
	// ServiceLog writes the last lines that a service printed.
	ServiceLog(ctx context.Context, workspace, service string, lines int, w io.Writer) error
	// RestartService stops a service and starts it again.
	RestartService(ctx context.Context, workspace, service string) error
	// ServiceListens opens a stream on which our agent tells which programs listen in a service
	// beside a workspace: a line of JSON (a wire.ListeningReport) at first and at each change.
	ServiceListens(ctx context.Context, workspace, service string) (io.ReadCloser, error)
	// Worked tells how much processor time the services beside a workspace have taken since
	// each of them was started.
	Worked(ctx context.Context, workspace string) (time.Duration, error)
}

// Aside is a site that keeps what a rebuild replaces until the new works.
type Aside interface {
	// SetAside stops those instances of the workspace that are not of the wanted digests
	// (by service; the workspace's own under the empty name) and keeps them, so that others
	// can take their places. It tells whether any is aside.
	SetAside(ctx context.Context, workspace string, wanted map[string]string) (bool, error)
	// Carry copies files, where they are there, from an instance that was set aside into
	// the one in its place, before that is started. They are the user's with the number
	// owner, where the place does not tell whose they are.
	Carry(ctx context.Context, workspace string, paths []string, owner int) error
	// PutBack removes what took the places of those set aside, puts them back and starts
	// them. Of the services beside the workspace only the named ones stay.
	PutBack(ctx context.Context, workspace string, services []string) error
	// DropAside removes what was set aside.
	DropAside(ctx context.Context, workspace string) error
}

// Keeper is a site that keeps snapshots of workspaces, from which others can begin.
type Keeper interface {
	// Save keeps the snapshot of a workspace, files and volumes, under a name of its own. What
	// a crash left of the same name is replaced.
	Save(ctx context.Context, workspace, snapshot string, progress func(line string)) (Saved, error)
	// RemoveSaved removes a snapshot that was kept. Instances that were made from it stay.
	RemoveSaved(ctx context.Context, snapshot string) error
}

// Carrier is a site that takes in what another one has kept.
type Carrier interface {
	// SharesStore tells that what the other one keeps is kept in the same place: then there is
	// nothing to bring.
	SharesStore(ctx context.Context, other Carrier) (bool, error)
	// BringMade brings images that were made at another site, those of a snapshot or built ones;
	// those that are here are replaced. Nothing else comes with them.
	BringMade(ctx context.Context, from Carrier, images []judge.Image, progress func(line string)) error
}

// Joiner is a site that puts several instances on one network.
type Joiner interface {
	// Join puts a workspace and its helpers on a network of their own, each reached by its
	// name; helpers are names by the helpers' ids. Who is on it already stays. Where the workspace
	// cannot find their names by itself, it tells their addresses, by name.
	Join(ctx context.Context, workspace, name string, helpers map[string]string) (addresses map[string]string, err error)
}

// Doors is a site that lets a workspace make helpers of its own.
type Doors interface {
	// ServeDoor serves who comes to a workspace's narrow door to what runs the instances, until
	// the listener is closed or ctx ends.
	ServeDoor(ctx context.Context, workspace string, listener net.Listener) error
}

// Screens is a site whose workspaces can have a screen.
type Screens interface {
	// Screen opens a stream of the RFB protocol (RFC 6143) to the screen of a workspace.
	Screen(ctx context.Context, workspace string) (net.Conn, error)
	// Picture is what the screen of a workspace shows, as PNG.
	Picture(ctx context.Context, workspace string) ([]byte, error)
}

// Firmer is a site that may lose what was written a moment ago: its machines may lose their power.
type Firmer interface {
	// Firm sees to it that what was written in a workspace until now stays.
	Firm(ctx context.Context, workspace string) error
}

// Differ is a site that knows what an instance has more than it was made from.
type Differ interface {
	// Added lists the paths that were added to the instance since it was made, outside its
	// volumes.
	Added(ctx context.Context, workspace string) ([]string, error)
}

// Sweeper is a site that finds what is left over.
type Sweeper interface {
	// Leftovers finds what this installation made and nothing uses any more, and nothing
	// that was made a moment ago; known gives the ids of the workspaces and of the snapshots
	// there are, and the names of the images that workspaces are planned with, and is called
	// when the place has been looked at.
	Leftovers(ctx context.Context, known func(ctx context.Context) ([]string, error)) ([]Leftover, error)
	// RemoveLeftover removes one of them.
	RemoveLeftover(ctx context.Context, l Leftover) error
}

// Measurer is a site that can tell how much of its disk its workspaces take.
type Measurer interface {
	// Free tells how much of the disk is free, in bytes. It is cheap; known is false where it
	// cannot be told.
	Free(ctx context.Context) (bytes int64, known bool, err error)
	// Written tells how much each workspace takes beyond its images, in bytes, by id.
	Written(ctx context.Context) (map[string]int64, error)
}

// Abilities are what a site can beyond what every site can; nil: it cannot.
type Abilities struct {
	Beside   Beside
	Placer   Placer
	Overseer Overseer
	Aside    Aside
	Keeper   Keeper
	Carrier  Carrier
	Joiner   Joiner
	Doors    Doors
	Screens  Screens
	Firmer   Firmer
	Differ   Differ
	Sweeper  Sweeper
	Measurer Measurer
	// Apart tells that each workspace has a machine of its own, which is the border: what is done
	// in it reaches nothing else.
	Apart bool
}

// Able is a site that tells its abilities itself, such as one around another that takes
// some away.
type Able interface{ Abilities() Abilities }

// Can finds what a site can. It is asked once.
func Can(s Site) (a Abilities) {
	if able, is := s.(Able); is {
		return able.Abilities()
	}
	a.Beside, _ = s.(Beside)
	a.Placer, _ = s.(Placer)
	a.Overseer, _ = s.(Overseer)
	a.Aside, _ = s.(Aside)
	a.Keeper, _ = s.(Keeper)
	a.Carrier, _ = s.(Carrier)
	a.Joiner, _ = s.(Joiner)
	a.Doors, _ = s.(Doors)
	a.Screens, _ = s.(Screens)
	a.Firmer, _ = s.(Firmer)
	a.Differ, _ = s.(Differ)
	a.Sweeper, _ = s.(Sweeper)
	a.Measurer, _ = s.(Measurer)
	return a
}
