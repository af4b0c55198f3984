// Package site says what a place that can hold workspaces must offer. Each kind of place
// is a folder beside this file; package sitetest is the suite that all of them pass.
// Nothing else knows which kinds there are.
//
// Everything that is made carries the workspace's id and the installation's name, and is
// found again by these, not by remembered ids: every method can be called again after a
// crash and leaves one object, not two.
package site

import (
	"context"
	"io"
	"io/fs"
	"net"
	"time"

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
	EnsureImage(ctx context.Context, reference string, progress func(line string)) (Image, error)
	// HasImage tells whether an image is at the place.
	HasImage(ctx context.Context, reference string) (bool, error)
	// EnsureBuilt builds an image at the place unless it is there, and tells how it goes.
	EnsureBuilt(ctx context.Context, b Build, progress func(line string)) (Image, error)
	// EnsureVolume makes the volume that holds the workspace's source, unless it is there,
	// and tells whether it was made.
	EnsureVolume(ctx context.Context, workspace string) (made bool, err error)
	// EnsureNetworks makes the workspace's own networks, unless they are there.
	EnsureNetworks(ctx context.Context, workspace string, list []plan.Network) error
	// EnsureService makes the container of a service beside the workspace, stopped; one of
	// the same digest stays. Files of the repository that it wants come from source.
	EnsureService(ctx context.Context, workspace, digest string, v plan.Service, source string) error
	// StartService and RestartService start a service's container.
	StartService(ctx context.Context, workspace, service string) error
	RestartService(ctx context.Context, workspace, service string) error
	// Services tells how the services beside a workspace are.
	Services(ctx context.Context, workspace string) ([]Service, error)
	// ServiceLog writes the last lines that a service printed.
	ServiceLog(ctx context.Context, workspace, service string, lines int, w io.Writer) error
	// EnsureInstance makes the instance, stopped. One that carries the same digest stays
	// as it is; another is replaced, the volume kept.
	EnsureInstance(ctx context.Context, workspace string, c plan.Container) error
	// Start starts the instance and its agent; one that runs stays as it is.
	Start(ctx context.Context, workspace string) error
	// Stop stops the instance: first kindly, after grace by force. Its files stay.
	Stop(ctx context.Context, workspace string, grace time.Duration) error
	// Remove removes all that was made for the workspace. What is not there is no error.
	Remove(ctx context.Context, workspace string) error
	// Find looks for the workspace's instance; found is false where there is none.
	Find(ctx context.Context, workspace string) (i Instance, found bool, err error)
	// List gives the instances of this installation that the place has.
	List(ctx context.Context) ([]Instance, error)
	// Added lists the paths that were added to the instance since it was made, outside its
	// volumes.
	Added(ctx context.Context, workspace string) ([]string, error)
	// Leftovers finds what this installation made and nothing uses any more; known are the
	// ids of the workspaces there are. RemoveLeftover removes one of them.
	Leftovers(ctx context.Context, known []string) ([]Leftover, error)
	RemoveLeftover(ctx context.Context, l Leftover) error
	// Connect opens a byte stream to the agent of a running instance.
	Connect(ctx context.Context, workspace string) (net.Conn, error)
}

// Facts is what was found when a place was examined.
type Facts struct {
	Engine        string // name and version of what runs the instances
	System        string // operating system and processor kind
	Processors    int
	MemoryBytes   int64
	DiskFreeBytes int64 // 0: not known
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
}

// Build is an image to build and what it is built from.
type Build struct {
	Recipe *recipe.Recipe
	// Source is the folder of the service's host with the repository's files.
	Source string
	// Features are the files of the recipe's layers, in their order.
	Features []fs.FS
}

// Image is an image as a site has it.
type Image struct {
	ID       string `json:"id"`
	User     string `json:"user"`               // who its programs run as; empty: root
	Metadata string `json:"metadata,omitempty"` // its label devcontainer.metadata
	Fetched  bool   `json:"fetched"`            // it was not there before
}
