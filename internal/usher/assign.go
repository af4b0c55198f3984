package usher

import (
	"cmp"
	"slices"
)

// Want is a port of a workspace that should be reachable at this machine.
type Want struct {
	Workspace string
	Target    string // host:port as seen from inside, such as localhost:8080 or db:5432
	Port      int    // its number there, which it has here too where that is free
	Exact     bool   // no other number will do (requireLocalPort)
}

// key tells one wanted port from another.
func (w Want) key() string { return w.Workspace + " " + w.Target }

// Taken is why a port has no place here.
type Taken struct {
	Port int
	By   string // the workspace that has it; empty: another program
	// Denied tells that nobody has it, but the usher may not: it has a number below 1024.
	Denied bool
}

// step is how far the numbers are apart that are tried where a port is taken.
const step = 1000

// assign gives each wanted port a number here. held are the numbers of those that have one, by their
// keys; before are the other numbers that some had in earlier times, to which they come back where
// their own is not free; take tries to have a number, and tells whether it has it now. What has a
// number keeps it; of what comes new, the first in the order of its names is served first. refused
// are those that get none.
func assign(wants []Want, held, before map[string]int, take func(w Want, port int) bool) (got map[string]int, refused map[string]Taken) {
	got, refused = map[string]int{}, map[string]Taken{}
	by := map[int]string{}
	var fresh []Want
	for _, w := range wants {
		if port, has := held[w.key()]; has && (!w.Exact || port == w.Port) {
			got[w.key()], by[port] = port, w.Workspace
			continue
		}
		fresh = append(fresh, w)
	}
	// Those that will have no other number come first, last those that had another one before.
	rank := func(w Want) int {
		switch {
		case w.Exact:
			return 0
		case before[w.key()] == 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(fresh, func(a, b Want) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Workspace, b.Workspace), cmp.Compare(a.Port, b.Port), cmp.Compare(a.Target, b.Target))
	})
	for _, w := range fresh {
		found := false
		for _, port := range choices(w, before[w.key()]) {
			if _, has := by[port]; has || !take(w, port) {
				continue
			}
			got[w.key()], by[port], found = port, w.Workspace, true
			break
		}
		if !found {
			refused[w.key()] = Taken{Port: w.Port, By: by[w.Port]}
		}
	}
	return got, refused
}

// choices are the numbers to try, the best first.
func choices(w Want, before int) []int {
	if w.Exact {
		return []int{w.Port}
	}
	list := []int{w.Port}
	if before > 0 {
		list = append(list, before)
	}
	for port := w.Port + step; port <= 65535 && len(list) < 66; port += step {
		list = append(list, port)
	}
	// A number below 1024 is root's, and its thousands are often somebody's: 80 becomes 8080.
	if w.Port < 1024 {
		list = slices.Insert(list, 1, 8000+w.Port)
	}
	return list
}
