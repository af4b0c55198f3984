package plan

import (
	"cmp"
	"maps"
	"path"
	"reflect"
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
	// Saved is an image with the snapshot that it begins with, in place of Image.
	Saved string `json:"saved,omitempty"`
	// Hooks run inside each time that it was started.
	Hooks []Hook `json:"hooks,omitempty"`
	// Profiled services run only where they are named or needed.
	Profiled bool `json:"profiled,omitempty"`
	// Joins is the digest of the container whose network it is on: it goes with that one.
	Joins string `json:"joins,omitempty"`
	// Late tells that it needs the source or the workspace itself before it starts.
	Late bool `json:"late,omitempty"`
	// File and Line tell where it is written.
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`
	// Places tells where its settings are written. It does not count for the digest.
	Places Places `json:"places,omitempty"`
}

// Digest is over all that goes into the service's container but a snapshot it begins with.
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
	IPv4    string   `json:"ipv4,omitempty"` // of a network with subnets of its own
	IPv6    string   `json:"ipv6,omitempty"`
	MAC     string   `json:"mac,omitempty"`
}

// Hook is a command that runs in a service's container when it was started.
type Hook struct {
	Command    []string          `json:"command"`
	User       string            `json:"user,omitempty"` // empty: the service's
	Folder     string            `json:"folder,omitempty"`
	Env        map[string]string `json:"env,omitempty"`
	Privileged bool              `json:"privileged,omitempty"`
}

// Network is a network of the workspace's own.
type Network struct {
	Name     string `json:"name"`
	Internal bool   `json:"internal,omitempty"` // without a way out
	// Subnets are its ranges of addresses; none: the site chooses.
	Subnets []string `json:"subnets,omitempty"`
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
		s.Mounts = belowItsName(r, s.Mounts)
		s.onAnothers(e.Service)
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
		s.Late = s.NetworkOf == judge.WorkspaceItself || slices.ContainsFunc(s.Mounts, func(m Mount) bool { return m.Type == "source" }) ||
			slices.ContainsFunc(s.After, func(d Dependency) bool { return late[d.Service] })
		late[name] = s.Late
		p.Services = append(p.Services, s)
	}
	p.own(r, own)
	for _, s := range append([]Service{own}, p.Services...) {
		_, there := byName[s.NetworkOf]
		if s.NetworkOf != "" && s.NetworkOf != judge.WorkspaceItself && !there {
			refuse.Refuse(s.Places.At("Network", ""), "service %s is on the network of %s, which is no service", s.Name, s.NetworkOf)
		}
	}
	if late[own.NetworkOf] || own.NetworkOf == judge.WorkspaceItself {
		refuse.Refuse(own.Places.At("Network", ""), "service %s is on the network of %s, which is there only when %s runs", own.Name, cmp.Or(strings.Trim(own.NetworkOf, judge.WorkspaceItself), own.Name), own.Name)
	}
}

// onAnothers reads "service:NAME": who is on another one's network is on no other, and starts
// behind it.
func (s *Service) onAnothers(workspace string) {
	if name, is := strings.CutPrefix(s.Network, "service:"); is {
		s.Network, s.NetworkOf = "", name
		if name == workspace {
			s.NetworkOf = judge.WorkspaceItself
		} else {
			s.After = append(s.After, Dependency{Service: name, Condition: Started})
		}
	}
	if s.Network != "" || s.NetworkOf != "" {
		s.Networks = nil
	}
}

// own takes what the Compose files say of the workspace's own service into its container.
// All that a service may have, it has: what the definition says comes on top.
func (p *Plan) own(r *definition.Report, own Service) {
	c := &p.Container
	c.SourceTarget = ownSource(r, own.Mounts)
	for key, place := range own.Places {
		field, value, _ := strings.Cut(key, " ")
		if settingRules[field].name == "" {
			continue
		}
		// What the definition says nothing of, the Compose file alone says.
		silent := value == "" && reflect.ValueOf(c.Settings).FieldByName(field).IsZero()
		if silent || c.Places[key] == "" {
			c.Places[key] = place + ": service " + own.Name
		}
	}
	own.Mounts = slices.DeleteFunc(own.Mounts, func(m Mount) bool { return m.Type == "source" && m.Target == c.SourceTarget })
	c.Settings = own.Settings.with(c.Settings)
	own.Settings = Settings{}
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
	if own.Hostname != own.Name { // the files say it
		c.Hostname = own.Hostname
	}
	c.Init = c.Init || own.Init
	c.Service = &own
}

// joins notes of containers that are on another one's network which one that is: where that
// is made anew, they are.
func (p *Plan) joins() {
	digests := map[string]string{}
	for i := range p.Services { // those that others wait for come first
		p.Services[i].Joins = digests[p.Services[i].NetworkOf]
		digests[p.Services[i].Name] = p.Services[i].Digest()
	}
	if own := p.Container.Service; own != nil {
		own.Joins = digests[p.Container.NetworkOf]
	}
}

// ownSource is where the workspace's own service wants the source: of several places the
// one that the workspace's folder lies in, else the first.
func ownSource(r *definition.Report, mounts []Mount) string {
	target := ""
	for _, m := range mounts {
		if m.Type != "source" || judge.TakenTarget(path.Clean(m.Target)) {
			continue
		}
		if target == "" || path.Clean(m.Target) == path.Clean(r.Effective.WorkspaceFolder) || strings.HasPrefix(r.Effective.WorkspaceFolder, path.Clean(m.Target)+"/") {
			target = m.Target
		}
	}
	if target == "" {
		return definition.DefaultMount(r.LocalFolder)
	}
	return target
}

// belowItsName makes mounts of the folder that the source lies in those of the source: the
// source is all that is there.
func belowItsName(r *definition.Report, mounts []Mount) []Mount {
	out := slices.Clone(mounts)
	for i, m := range out {
		if m.Type == "source" && m.Source == ".." {
			out[i].Source, out[i].Target = "", path.Join(m.Target, path.Base(definition.DefaultMount(r.LocalFolder)))
		}
	}
	return out
}

// with gives settings with what others say on top: lists are joined, single values are the
// others' where they have one.
func (s Settings) with(top Settings) Settings {
	s.Mounts = append(slices.Clone(s.Mounts), top.Mounts...)
	s.Privileged, s.ReadOnly = s.Privileged || top.Privileged, s.ReadOnly || top.ReadOnly
	s.GPUs, s.Network, s.NetworkOf = cmp.Or(top.GPUs, s.GPUs), cmp.Or(top.Network, s.Network), cmp.Or(top.NetworkOf, s.NetworkOf)
	s.SharedMemory, s.Memory, s.CPUs, s.Processes = cmp.Or(top.SharedMemory, s.SharedMemory), cmp.Or(top.Memory, s.Memory), cmp.Or(top.CPUs, s.CPUs), cmp.Or(top.Processes, s.Processes)
	for _, list := range []struct {
		of   *[]string
		more []string
	}{{&s.CapAdd, top.CapAdd}, {&s.CapDrop, top.CapDrop}, {&s.SecurityOpt, top.SecurityOpt}, {&s.Devices, top.Devices}, {&s.Hosts, top.Hosts}, {&s.DNS, top.DNS}, {&s.DNSSearch, top.DNSSearch}, {&s.Groups, top.Groups}, {&s.Ulimits, top.Ulimits}} {
		*list.of = slices.Clone(*list.of)
		for _, v := range list.more {
			if !slices.Contains(*list.of, v) {
				*list.of = append(*list.of, v)
			}
		}
	}
	for _, m := range []struct {
		of   *map[string]string
		more map[string]string
	}{{&s.Spaces, top.Spaces}, {&s.Sysctls, top.Sysctls}} {
		*m.of = maps.Clone(*m.of)
		for k, v := range m.more {
			if *m.of == nil {
				*m.of = map[string]string{}
			}
			(*m.of)[k] = v
		}
	}
	return s
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
