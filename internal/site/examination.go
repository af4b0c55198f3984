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

// Findings tells what was found in words, against what is wanted.
func (f Facts) Findings() (list []Finding) {
	add := func(what, found, wanted string, fine bool, remedy string) {
		if fine {
			remedy = ""
		}
		list = append(list, Finding{what, found, wanted, fine, remedy})
	}
	add("engine", f.Engine, "", f.Engine != "", "start it")
	add("system", f.System, "", f.System != "", "")
	add("processors", fmt.Sprint(f.Processors), fmt.Sprintf("%d or more", wantedProcessors), f.Processors >= wantedProcessors, "give the host more, or use it for small definitions")
	add("memory", amount.Of(f.MemoryBytes), amount.Of(wantedMemory)+" or more", f.MemoryBytes >= wantedMemory*9/10, "give the host more, or use it for small definitions")
	if f.DiskFreeBytes > 0 {
		add("disk free", amount.Of(f.DiskFreeBytes), amount.Of(wantedDisk)+" or more", f.DiskFreeBytes >= wantedDisk, "free some where the engine keeps its data: domicile tidy")
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
