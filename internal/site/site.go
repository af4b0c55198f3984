// Package site says what a place that can hold workspaces must offer. Each kind of place
// is a folder beside this file; package sitetest is the suite that all of them pass.
// Nothing else knows which kinds there are.
//
// Everything that is made carries the workspace's id and the installation's name, and is
// found again by these, not by remembered ids: every method can be called again after a
// crash and leaves one object, not two.
//
// What comes from definitions and people reaches a site only as values that were judged
// (packages judge and plan): a name of an image, the settings of a container.
package site

import (
	"context"
	"io"
	"io/fs"
	"net"
	"time"

	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/recipe"
)

// Kind is a kind of place.
type Kind string

// The kinds of places.
const (
	Engine  Kind = "engine"
	Remote  Kind = "remote"
	VM      Kind = "vm"
	Cloud   Kind = "cloud"
	Cluster Kind = "cluster"
)

// Site is a place that can hold workspaces. Its errors are *fault.Fault where a person
// can act on them; a place that does not answer gives a transient one.
type Site interface {
	Kind() Kind
	// Examine looks at the place.
	Examine(ctx context.Context) (Facts, error)
	// EnsureImage brings an image to the place unless it is there, and tells how it goes.
	EnsureImage(ctx context.Context, image judge.Image, progress func(line string)) (Image, error)
	// HasImage tells whether an image is at the place.
	HasImage(ctx context.Context, image judge.Image) (bool, error)
	// EnsureBuilt builds an image at the place unless it is there, and tells how it goes.
	EnsureBuilt(ctx context.Context, b Build, progress func(line string)) (Image, error)
	// EnsureVolume makes the volume that holds the workspace's source, unless it is there,
	// and tells whether it was made.
	EnsureVolume(ctx context.Context, workspace string) (made bool, err error)
	// EnsureNetworks makes the workspace's own networks, unless they are there.
	EnsureNetworks(ctx context.Context, workspace string, list plan.Judged[[]plan.Network]) error
	// EnsureService makes the container of a service beside the workspace, stopped; one of
	// the same digest stays. Files of the repository that it wants come from source.
	EnsureService(ctx context.Context, workspace, digest string, v plan.Judged[plan.Service], source string) error
	// StartService and RestartService start a service's container.
	StartService(ctx context.Context, workspace, service string) error
	RestartService(ctx context.Context, workspace, service string) error
	// Services tells how the services beside a workspace are.
	Services(ctx context.Context, workspace string) ([]Service, error)
	// Worked tells how much processor time the services beside a workspace have taken since
	// each of them was started.
	Worked(ctx context.Context, workspace string) (time.Duration, error)
	// ServiceLog writes the last lines that a service printed.
	ServiceLog(ctx context.Context, workspace, service string, lines int, w io.Writer) error
	// EnsureInstance makes the instance, stopped. One that carries the same digest stays
	// as it is; another is replaced, the volume kept.
	EnsureInstance(ctx context.Context, workspace string, c plan.Judged[plan.Container]) error
	// Start starts the instance and its agent; one that runs stays as it is.
	Start(ctx context.Context, workspace string) error
	// Stop stops the instance and, where services says so, the services beside it: first
	// kindly, after grace by force. Its files stay.
	Stop(ctx context.Context, workspace string, grace time.Duration, services bool) error
	// SetAside stops those containers of the workspace that are not of the wanted digests
	// (by service; the instance's own under the empty name) and keeps them, so that others
	// can take their places. It tells whether any is aside.
	SetAside(ctx context.Context, workspace string, wanted map[string]string) (bool, error)
	// Carry copies files, where they are there, from an instance that was set aside into
	// the one in its place, before that is started.
	Carry(ctx context.Context, workspace string, paths []string) error
	// PutBack removes what took the places of those set aside, puts them back and starts
	// them. Of the services beside the workspace only the named ones stay.
	PutBack(ctx context.Context, workspace string, services []string) error
	// DropAside removes what was set aside.
	DropAside(ctx context.Context, workspace string) error
	// Save keeps the state of a workspace, files and volumes, under a name of its own. What
	// a crash left of the same name is replaced.
	Save(ctx context.Context, workspace, state string, progress func(line string)) (Saved, error)
	// RemoveSaved removes a state that was kept. Instances that were made from it stay.
	RemoveSaved(ctx context.Context, state string) error
	// Join puts a workspace and its helpers on a network of their own, each reached by its
	// name; helpers are names by the helpers' ids. Who is on it already stays.
	Join(ctx context.Context, workspace, name string, helpers map[string]string) error
	// OpenDoor serves a workspace the narrow door to what runs the instances, until ctx ends.
	OpenDoor(ctx context.Context, workspace string) error
	// Remove removes all that was made for the workspace. What is not there is no error.
	Remove(ctx context.Context, workspace string) error
	// Find looks for the workspace's instance; found is false where there is none.
	Find(ctx context.Context, workspace string) (i Instance, found bool, err error)
	// List gives the instances of this installation that the place has.
	List(ctx context.Context) ([]Instance, error)
	// Added lists the paths that were added to the instance since it was made, outside its
	// volumes.
	Added(ctx context.Context, workspace string) ([]string, error)
	// Leftovers finds what this installation made and nothing uses any more, and nothing
	// that was made a moment ago; known gives the ids of the workspaces and of the states
	// there are, and is called when the place has been looked at. RemoveLeftover removes one of them.
	Leftovers(ctx context.Context, known func(ctx context.Context) ([]string, error)) ([]Leftover, error)
	RemoveLeftover(ctx context.Context, l Leftover) error
	// Connect opens a byte stream to the agent of a running instance.
	Connect(ctx context.Context, workspace string) (net.Conn, error)
}

// Measurer is a site that can tell how much of its disk its workspaces take.
type Measurer interface {
	// Free tells how much of the disk is free, in bytes. It is cheap; known is false where it
	// cannot be told.
	Free(ctx context.Context) (bytes int64, known bool, err error)
	// Written tells how much each workspace takes beyond its images, in bytes, by id.
	Written(ctx context.Context) (map[string]int64, error)
}

// Facts is what was found when a place was examined.
type Facts struct {
	Engine        string // name and version of what runs the instances
	System        string // operating system and processor kind
	Processors    int
	MemoryBytes   int64
	DiskFreeBytes int64 // 0: not known
	GPU           bool  // instances can be given a graphics processor
	// UserNamespaces tells that root of an instance is nobody on the host.
	UserNamespaces bool
	// Joined tells that workspaces can reach each other's networks, which they must not;
	// empty: they cannot, or it is not known.
	Joined string
}

// Service is a service beside a workspace, as it is now.
type Service struct {
	Name     string
	Image    string
	Running  bool
	Started  bool   // it ran at least once
	Health   string // starting, healthy or unhealthy; empty: it has no check
	ExitCode int
}

// Leftover is something that Domicile made and nothing uses any more.
type Leftover struct {
	Kind  string // image, container, volume or network
	Name  string
	Bytes int64 // 0: not known
	Why   string
}

// Instance is what holds a workspace at a site.
type Instance struct {
	Workspace string
	Running   bool
	Digest    string // of the container it was made from
	ExitCode  int    // of the last end, where it does not run
	// Services are those beside it, in a list of instances.
	Services []Service
}

// Saved is a state that was kept.
type Saved struct {
	Images map[string]string // by service; the workspace's own under the empty name
	Bytes  int64             // what it takes beyond the images it was made from
}

// Build is an image to build and what it is built from.
type Build struct {
	Recipe plan.Judged[recipe.Recipe]
	// Source is the folder of the service's host with the repository's files.
	Source string
	// Features are the files of the recipe's layers, in their order.
	Features []fs.FS
	// Secrets are what RUN --mount=type=secret may read, by name.
	Secrets map[string]string
}

// Image is an image as a site has it.
type Image struct {
	ID       string `json:"id"`
	User     string `json:"user"`               // who its programs run as; empty: root
	Metadata string `json:"metadata,omitempty"` // its label devcontainer.metadata
	Fetched  bool   `json:"fetched"`            // it was not there before
}
