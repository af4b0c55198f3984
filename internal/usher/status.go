package usher

import (
	"cmp"
	"encoding/json"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Status is what an usher does at the moment.
type Status struct {
	Service   string      `json:"service"`
	Connected bool        `json:"connected"`
	Reason    string      `json:"reason,omitempty"` // why it is not
	Since     time.Time   `json:"since"`
	Process   int         `json:"process"`
	Suffix    string      `json:"suffix"`
	Places    []PlaceView `json:"workspaces"`
}

// PlaceView is a workspace as the usher sees it.
type PlaceView struct {
	Name    string     `json:"name"`
	Address string     `json:"address"` // what ssh is told
	State   string     `json:"state"`
	Ports   []PortView `json:"ports"`
}

// PortView is a port that should be reachable.
type PortView struct {
	Port   string `json:"port"` // as the workspace has it
	Label  string `json:"label,omitempty"`
	Local  string `json:"local,omitempty"`  // host:port of this machine
	Reason string `json:"reason,omitempty"` // why it is not reachable
}

// Status tells what the usher does.
func (u *Usher) Status() Status {
	u.mu.Lock()
	defer u.mu.Unlock()
	s := Status{Service: u.o.Address, Connected: u.streaming && u.reason == "", Reason: u.reason, Since: u.since, Process: os.Getpid(), Suffix: u.o.Suffix, Places: []PlaceView{}}
	for name, p := range u.places {
		v := PlaceView{Name: name, Address: AddressOf(name, u.o.Suffix), State: p.state, Ports: []PortView{}}
		for _, port := range p.ports {
			w, ok := wanted(name, port)
			if !ok {
				continue
			}
			x := PortView{Port: port.Port}
			if port.Label != nil {
				x.Label = *port.Label
			}
			if d := u.doors[w.key()]; d != nil {
				x.Local = "localhost:" + strconv.Itoa(d.port)
			} else if t, is := u.refused[w.key()]; is {
				x.Reason = notHere(w, t)
			} else {
				x.Reason = "it has more ports than are offered here"
			}
			v.Ports = append(v.Ports, x)
		}
		s.Places = append(s.Places, v)
	}
	slices.SortFunc(s.Places, func(a, b PlaceView) int { return cmp.Compare(a.Name, b.Name) })
	return s
}

// AddressOf is what ssh is told to reach a workspace. A helper's name has a point in it: mate beside
// fares is "fares.mate", and its address "mate.fares.domicile", the smaller before the larger as in
// all names of hosts.
func AddressOf(workspace, suffix string) string {
	if of, helper, is := strings.Cut(workspace, "."); is {
		workspace = helper + "." + of
	}
	return workspace + "." + suffix
}

// WorkspaceAt is the workspace that an address means.
func WorkspaceAt(address, suffix string) string {
	name := strings.TrimSuffix(address, "."+suffix)
	if helper, of, is := strings.Cut(name, "."); is && name != address {
		return of + "." + helper
	}
	return name
}

// ServeHTTP answers what the usher does, to who may open its socket.
func (u *Usher) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(u.Status())
}

// Local finds where a workspace's port is at this machine; empty: nowhere.
func (s Status) Local(workspace, port string) string {
	for _, p := range s.Places {
		if p.Name != workspace {
			continue
		}
		for _, x := range p.Ports {
			if x.Port == port {
				return x.Local
			}
		}
	}
	return ""
}
