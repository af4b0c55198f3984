package site

import (
	"fmt"

	"domicile/internal/amount"
)

// Finding is one thing that was looked at when a place was examined.
type Finding struct {
	What   string
	Found  string
	Wanted string // empty: nothing in particular
	Fine   bool
	Remedy string // where it is not fine
}

// What a place should have: less works, but not for long, or not for many.
const (
	wantedProcessors = 2
	wantedMemory     = 2 << 30
	wantedDisk       = 10 << 30
)

// Findings are what was found, in the order in which it was looked at.
type Findings []Finding

// Add adds one. The remedy is left out where it is fine.
func (l *Findings) Add(what, found, wanted string, fine bool, remedy string) {
	if fine {
		remedy = ""
	}
	*l = append(*l, Finding{what, found, wanted, fine, remedy})
}

// AddDisk adds how much is free on a disk, in bytes.
func (l *Findings) AddDisk(what string, free int64, remedy string) {
	l.Add(what, amount.Of(free)+" free", amount.Of(wantedDisk)+" or more", free >= wantedDisk, remedy)
}

// Findings tells what was found in words, against what is wanted.
func (f Facts) Findings() (list Findings) {
	add := list.Add
	add("engine", f.Engine, "", f.Engine != "", "start it")
	add("system", f.System, "", f.System != "", "")
	add("processors", fmt.Sprint(f.Processors), fmt.Sprintf("%d or more", wantedProcessors), f.Processors >= wantedProcessors, "give the host more, or use it for small definitions")
	add("memory", amount.Of(f.MemoryBytes), amount.Of(wantedMemory)+" or more", f.MemoryBytes >= wantedMemory*9/10, "give the host more, or use it for small definitions")
	if f.DiskFreeBytes > 0 {
		list.AddDisk("disk", f.DiskFreeBytes, "free some where the engine keeps its data: domicile tidy")
	}
	userns := "root of a workspace is root on the host"
	if f.UserNamespaces {
		userns = "root of a workspace is nobody on the host"
	}
	add("user namespaces", userns, "root of a workspace is nobody on the host", f.UserNamespaces, "start its engine with userns-remap (docs/trust.md)")
	apart := f.Joined
	if apart == "" {
		apart = "kept apart, as far as it is known"
	}
	add("networks", apart, "workspaces do not reach each other", f.Joined == "", "start the engine again, or put its rules back")
	return list
}
