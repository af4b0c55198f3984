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
	Elsewhere bool   // it gets another number: the own one is that of a server which people run here (IsUsual)
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

// usualPorts are those of servers that people run on their own machines, and whose clients look for them at
// localhost. A program of a workspace that listens there would be taken for such a server.
var usualPorts = []int{21, 22, 25, 53, 110, 143, 389, 445, 587, 631, 636, 993, 1080, 1433, 1521, 1883, 2049, 2375, 2376, 3128, 3306, 3389, 4222, 5432, 5672, 5900, 5984, 6379, 6443,
	8086, 8500, 9042, 9092, 9200, 11211, 15672, 26379, 27017, 33060}

// IsUsual reports whether a port is that of a server which people run on their own machines.
func IsUsual(port int) bool { return slices.Contains(usualPorts, port) }

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
		if port, has := held[w.key()]; has && (!w.Exact || port == w.Port) && (!w.Elsewhere || port != w.Port) {
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
	var list []int
	if !w.Elsewhere {
		list = append(list, w.Port)
	}
	if before > 0 && before != w.Port {
		list = append(list, before)
	}
	for port := w.Port + step; port <= 65535 && len(list) < 66; port += step {
		list = append(list, port)
	}
	// A number below 1024 is root's, and its thousands are often somebody's: 80 becomes 8080.
	if w.Port < 1024 {
		at := 1
		if w.Elsewhere {
			at = min(before, 1) // behind the one of earlier times
		}
		list = slices.Insert(list, at, 8000+w.Port)
	}
	return list
}
