// Package ports tells which ports a workspace has: those that its definition names, and those at
// which a program listens now, each with what the definition says of it.
package ports

import (
	"cmp"
	"slices"

	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/plan"
)

// Port is one.
type Port struct {
	plan.Port
	Listener *wire.Listener // nil: nobody listens, or it is another service's and not known
}

// Of puts together what a plan names and what listens, in the order of the numbers: a workspace's
// own ports first, then those of its services by their names.
func Of(p *plan.Plan, listeners []wire.Listener) []Port {
	var list []Port
	for _, named := range p.Ports {
		list = append(list, Port{Port: named})
	}
	for _, l := range listeners {
		x := Port{Port: plan.Port{Port: definition.Port{Number: l.Port}}}
		if l.Network == "tcp" { // a definition speaks of TCP alone
			x.PortAttributes = p.PortRules.Of(x.Port.Port, l.Command)
			i := slices.IndexFunc(list, func(y Port) bool { return y.Listener == nil && y.Port.Port.Number == l.Port && own(y.Port.Port.Host) })
			if i >= 0 {
				if list[i].PortAttributes == (definition.PortAttributes{}) {
					list[i].PortAttributes = x.PortAttributes // what counts by the command
				}
				list[i].Listener = &l
				continue
			}
		}
		x.Listener = &l
		list = append(list, x)
	}
	slices.SortStableFunc(list, func(a, b Port) int {
		x, y := a.Port.Port, b.Port.Port
		if own(x.Host) != own(y.Host) {
			if own(x.Host) {
				return -1
			}
			return 1
		}
		if own(x.Host) {
			return cmp.Compare(x.Number, y.Number)
		}
		return cmp.Or(cmp.Compare(x.Host, y.Host), cmp.Compare(x.Number, y.Number))
	})
	return list
}

// own tells whether a port's host is the workspace itself.
func own(host string) bool { return host == "" || host == "localhost" || host == "127.0.0.1" }
