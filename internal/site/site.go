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
	"net"
	"time"

	"domicile/internal/judge"
	"domicile/internal/plan"
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

// Site is a place that can hold workspaces: what every place has. What only some can is an
// ability (Can). Its errors are *fault.Fault where a person can act on them; a place that
// does not answer gives a transient one.
type Site interface {
	Kind() Kind
	// Examine looks at the place.
	Examine(ctx context.Context) (Facts, error)
	// Connect opens a byte stream to the agent of a running instance.
	Connect(ctx context.Context, workspace string) (net.Conn, error)
	Images
	Instances
}

// Images are what instances are made from.
type Images interface {
	// HasImage tells whether an image is at the place.
	HasImage(ctx context.Context, image judge.Image) (bool, error)
	// EnsureImage brings an image to the place unless it is there, and tells how it goes.
	EnsureImage(ctx context.Context, image judge.Image, progress func(line string)) (Image, error)
	// EnsureBuilt builds an image at the place unless it is there, and tells how it goes.
	EnsureBuilt(ctx context.Context, b Build, progress func(line string)) (Image, error)
}

// Instances hold workspaces, one each.
type Instances interface {
	// EnsureVolume makes the volume that holds the workspace's source, unless it is there,
	// and tells whether it was made.
	EnsureVolume(ctx context.Context, workspace string) (made bool, err error)
	// EnsureInstance makes the instance, stopped. One that carries the same digest stays
	// as it is; another is replaced, the volume kept.
	EnsureInstance(ctx context.Context, workspace string, c plan.Judged[plan.Container]) error
	// Start starts the instance and its agent; one that runs stays as it is.
	Start(ctx context.Context, workspace string) error
	// Stop stops the instance and, where services says so, what runs beside it: first
	// kindly, after grace by force. Its files stay.
	Stop(ctx context.Context, workspace string, grace time.Duration, services bool) error
	// Remove removes all that was made for the workspace. What is not there is no error.
	Remove(ctx context.Context, workspace string) error
	// Find looks for the workspace's instance; found is false where there is none.
	Find(ctx context.Context, workspace string) (i Instance, found bool, err error)
	// List gives the instances of this installation that the place has.
	List(ctx context.Context) ([]Instance, error)
}
