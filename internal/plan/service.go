package plan

import (
	"path"
	"slices"
	"strings"
	"time"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/recipe"
)

// Service is a service of Compose files, as a site makes it.
type Service struct {
	Name   string         `json:"name"`
	Image  string         `json:"image"`
	Recipe *recipe.Recipe `json:"recipe,omitempty"` // where it is built
	Settings
	Init       bool              `json:"init,omitempty"`
	Command    []string          `json:"command,omitempty"`
	Entrypoint []string          `json:"entrypoint,omitempty"`
	Env        map[string]string `json:"env,omitempty"`
	User       string            `json:"user,omitempty"`
	Folder     string            `json:"folder,omitempty"`
	Hostname   string            `json:"hostname,omitempty"`
	Networks   []Attachment      `json:"networks,omitempty"`
	After      []Dependency      `json:"after,omitempty"`
	Health     *Health           `json:"health,omitempty"`
	Restart    string            `json:"restart,omitempty"` // as an engine names it
	StopSignal string            `json:"stopSignal,omitempty"`
	Grace      time.Duration     `json:"grace,omitempty"` // of a stop; 0: the engine's
	// Saved is an image with the state that it begins with, in place of Image.
	Saved string `json:"saved,omitempty"`
	// Profiled services run only where they are named or needed.
	Profiled bool `json:"profiled,omitempty"`
	// Late tells that it needs the source or the workspace itself before it starts.
	Late bool `json:"late,omitempty"`
	// File and Line tell where it is written.
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`
	// Places tells where its settings are written. It does not count for the digest.
	Places Places `json:"places,omitempty"`
}

// Digest is over all that goes into the service's container but a state it begins with.
func (s Service) Digest() string {
	s = s.unplaced()
	s.Saved = ""
	return digest(s)
}

// unplaced is the service without the places where it is written.
func (s Service) unplaced() Service {
	s.Places, s.File, s.Line = nil, "", 0
	return s
}

func unplaced(list []Service) (out []Service) {
	for _, s := range list {
		out = append(out, s.unplaced())
	}
	return out
}

// Attachment is a network that a service is on.
type Attachment struct {
	Network string   `json:"network"`
	Aliases []string `json:"aliases,omitempty"`
}

// Network is a network of the workspace's own.
type Network struct {
	Name     string `json:"name"`
	Internal bool   `json:"internal,omitempty"` // without a way out
}

// The conditions of a dependency, as Compose files name them.
const (
	Started   = "service_started"
	Healthy   = "service_healthy"
	Completed = "service_completed_successfully"
)

// Dependency is a service that another one waits for.
type Dependency struct {
	Service   string `json:"service"`
	Condition string `json:"condition"`
	Optional  bool   `json:"optional,omitempty"`
}

// Health is a health check.
type Health struct {
	Test                           []string
	Interval, Timeout, StartPeriod time.Duration
	Retries                        int
}

// Services are all services of a project.
type Services struct {
	All      []Service
	Networks []Network
}

// compose takes the services beside the workspace into the plan, those that others wait
// for first, and what the files say of the workspace's own.
func (p *Plan) compose(r *definition.Report, all *Services, refuse *written) {
	e := r.Effective
	if all == nil {
		refuse.Refuse(r.File, "the Compose files were not read")
		return
	}
	byName := map[string]Service{}
	for _, s := range all.All {
		byName[s.Name] = s
	}
	own, found := byName[e.Service]
	if !found {
		refuse.Refuse(r.File, "the Compose files have no service %q", e.Service)
		return
	}
	wanted := wantedServices(e, byName)
	p.Networks = all.Networks
	late := map[string]bool{e.Service: true}
	for _, name := range inOrder(byName, wanted, e.Service) {
		s := byName[name]
		if name == e.Service {
			continue
		}
		s.Image = pinnedImage(r, s.Image)
		if s.Recipe != nil && s.Recipe.OwnersAlone() {
			s.Recipe = s.Recipe.For(refuse.Account)
			s.Image = s.Recipe.Tag()
		}
		s.Late = slices.ContainsFunc(s.Mounts, func(m Mount) bool { return m.Type == "source" }) ||
			slices.ContainsFunc(s.After, func(d Dependency) bool { return late[d.Service] })
		late[name] = s.Late
		p.Services = append(p.Services, s)
	}
	for _, m := range own.Mounts {
		if m.Type == "source" {
			p.Container.SourceTarget = m.Target
		}
	}
	if p.Container.SourceTarget == "" || judge.TakenTarget(path.Clean(p.Container.SourceTarget)) {
		p.Container.SourceTarget = definition.DefaultMount(r.LocalFolder)
	}
	c := &p.Container
	for _, m := range own.Mounts {
		if place := own.Places.At("Mounts", m.Target); place != "" {
			c.Places.note("Mounts", m.Target, place+": service "+own.Name)
		}
	}
	own.Mounts = slices.DeleteFunc(own.Mounts, func(m Mount) bool { return m.Type == "source" })
	c.Mounts = append(own.Mounts, c.Mounts...)
	own.Mounts = nil
	env := own.Env
	for name, value := range c.Env {
		if env == nil {
			env = map[string]string{}
		}
		env[name] = value
	}
	c.Env, own.Env = env, nil
	if c.User == "" {
		c.User = own.User
		c.Places["User"] = own.Places.At("User", "")
	}
	c.Init = c.Init || own.Init
	c.Service = &own
}

// wantedServices are those of runServices with all they depend on, or all.
func wantedServices(e *definition.Effective, byName map[string]Service) map[string]bool {
	wanted := map[string]bool{}
	var want func(name string)
	want = func(name string) {
		s, found := byName[name]
		if !found || wanted[name] {
			return
		}
		wanted[name] = true
		for _, d := range s.After {
			want(d.Service)
		}
	}
	if len(e.RunServices) == 0 {
		for name, s := range byName {
			if !s.Profiled {
				want(name)
			}
		}
		want(e.Service)
		return wanted
	}
	want(e.Service)
	for _, name := range e.RunServices {
		want(name)
	}
	return wanted
}

// inOrder sorts services so that each stands behind those it waits for; of those that do
// not wait for each other, by name.
func inOrder(byName map[string]Service, wanted map[string]bool, own string) (list []string) {
	var names []string
	for name := range wanted {
		names = append(names, name)
	}
	slices.Sort(names)
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		if seen[name] || !wanted[name] {
			return
		}
		seen[name] = true
		after := slices.Clone(byName[name].After)
		slices.SortFunc(after, func(a, b Dependency) int { return strings.Compare(a.Service, b.Service) })
		for _, d := range after {
			visit(d.Service)
		}
		list = append(list, name)
	}
	visit(own)
	for _, name := range names {
		visit(name)
	}
	return list
}

// ServiceByName finds a service beside the workspace.
func (p *Plan) ServiceByName(name string) (Service, error) {
	i := slices.IndexFunc(p.Services, func(s Service) bool { return s.Name == name })
	if i < 0 {
		var names []string
		for _, s := range p.Services {
			names = append(names, s.Name)
		}
		return Service{}, fault.New("no-service", "it has "+strings.Join(names, ", "), "the workspace has no service %q", name)
	}
	return p.Services[i], nil
}
