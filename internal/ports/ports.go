// Package ports tells which ports a workspace has: those that its definition names, and those at
// which a program listens now, each with what the definition says of it.
package ports

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"

	"domicile/internal/agent/wire"
	"domicile/internal/definition"
	"domicile/internal/plan"
)

// Port is one.
type Port struct {
	plan.Port
	Listener *wire.Listener // nil: nobody listens, or that is not known
	// Known tells that who listens there is known.
	Known bool
}

// Listening is what listens in a place.
type Listening struct {
	Listeners []wire.Listener
	Known     bool
}

// Of puts together what a plan names and what listens, in the workspace itself and in the services
// beside it by their names, in the order of the numbers: a workspace's own ports first, then those
// of its services by their names.
func Of(p *plan.Plan, here Listening, beside map[string]Listening) []Port {
	var list []Port
	for _, named := range p.Ports {
		known := here.Known
		if !own(named.Port.Host) {
			known = beside[named.Port.Host].Known
		}
		list = append(list, Port{Port: named, Known: known})
	}
	list = join(p, list, "", here.Listeners)
	for _, service := range slices.Sorted(maps.Keys(beside)) {
		list = join(p, list, service, slices.DeleteFunc(slices.Clone(beside[service].Listeners), unreached))
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

// join puts those who listen in a service, or in the workspace itself, to the ports they are at.
func join(p *plan.Plan, list []Port, service string, listeners []wire.Listener) []Port {
	for _, l := range listeners {
		x := Port{Port: plan.Port{Port: definition.Port{Host: service, Number: l.Port}}, Known: true}
		if l.Network == "tcp" { // a definition speaks of TCP alone
			x.PortAttributes = p.PortRules.Of(x.Port.Port, l.Command)
			i := slices.IndexFunc(list, func(y Port) bool {
				return y.Listener == nil && y.Port.Port.Number == l.Port && (y.Port.Port.Host == service || service == "" && own(y.Port.Port.Host))
			})
			if i >= 0 {
				if list[i].PortAttributes == (definition.PortAttributes{}) {
					list[i].PortAttributes = x.PortAttributes // what counts by the command
				}
				list[i].Listener = &l
				continue
			}
			if service != "" && x.OnAutoForward == "" {
				x.OnAutoForward = "silent" // a service that nobody named is no news
			}
		}
		x.Listener = &l
		list = append(list, x)
	}
	return list
}

// unreached tells that nobody outside a service reaches who listens there.
func unreached(l wire.Listener) bool {
	return !slices.ContainsFunc(l.Addresses, func(text string) bool {
		a, err := netip.ParseAddr(text)
		return err == nil && !a.IsLoopback()
	})
}

// own tells whether a port's host is the workspace itself.
func own(host string) bool { return host == "" || host == "localhost" || host == "127.0.0.1" }
