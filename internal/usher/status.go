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

	"domicile/internal/client"
	"domicile/internal/fault"
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
	Questions []Question  `json:"questions"`
}

// PlaceView is a workspace as the usher sees it.
type PlaceView struct {
	Name    string     `json:"name"`
	Address string     `json:"address"` // what ssh is told
	State   string     `json:"state"`
	Ports   []PortView `json:"ports"`
	// Heard tells that its programs find the usher.
	Heard     bool       `json:"heard"`
	Reason    string     `json:"reason,omitempty"` // why they do not
	Decisions []Decision `json:"decisions"`
	// Reverse are ports of this machine that appear inside.
	Reverse []Reverse `json:"reverse"`
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
	s := Status{Service: u.o.Address, Connected: u.streaming && u.reason == "", Reason: u.reason, Since: u.since, Process: os.Getpid(), Suffix: u.o.Suffix, Places: []PlaceView{}, Questions: []Question{}}
	s.Questions = u.consent.shown()
	for name, p := range u.places {
		v := PlaceView{Name: name, Address: AddressOf(name, u.o.Suffix), State: p.state, Ports: []PortView{}, Heard: p.lending, Reason: p.reason, Decisions: []Decision{}, Reverse: u.reverseView(name, p)}
		if time.Now().Before(p.unheard) {
			v.Reason = "a program in it asked without end"
		}
		for _, d := range u.consent.Decisions {
			if d.Workspace == name && d.counts(p) {
				v.Decisions = append(v.Decisions, d)
			}
		}
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

// WorkspaceAt is the workspace that an address means, with the user of its container where the address
// names one ("fares+root.domicile").
func WorkspaceAt(address, suffix string) string {
	name := strings.TrimSuffix(address, "."+suffix)
	name, user, another := strings.Cut(name, "+")
	if helper, of, is := strings.Cut(name, "."); is && strings.HasSuffix(address, "."+suffix) {
		name = of + "." + helper
	}
	if another {
		name += "+" + user
	}
	return name
}

// ServeHTTP answers what the usher does, and takes decisions, to who may open its socket.
func (u *Usher) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodPost {
		err := u.take(r.URL.Path, json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)))
		w.Header().Set("Content-Type", "application/json")
		if err != nil {
			w.WriteHeader(http.StatusBadRequest)
			p := client.Problem{Code: fault.Code(err), Title: err.Error(), Status: http.StatusBadRequest}
			if remedy := fault.Remedy(err); remedy != "" {
				p.Remedy = &remedy
			}
			_ = json.NewEncoder(w).Encode(p)
			return
		}
		_ = json.NewEncoder(w).Encode(u.Status())
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(u.Status())
}

// ReversePath is where a Reverse is taken; elsewhere a Decision is.
const ReversePath = "/reverse"

func (u *Usher) take(path string, from *json.Decoder) error {
	if path == ReversePath {
		var r Reverse
		if err := from.Decode(&r); err != nil {
			return err
		}
		return u.Keep(r)
	}
	var d Decision
	if err := from.Decode(&d); err != nil {
		return err
	}
	return u.Decide(d)
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
