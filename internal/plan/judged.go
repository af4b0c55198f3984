package plan

import (
	"maps"
	"reflect"
	"slices"

	"domicile/internal/definition"
	"domicile/internal/judge"
	"domicile/internal/recipe"
)

// Judged is a part of a plan that was judged for one workspace. Sites take nothing else,
// and there is no other way to make one than the functions beside this type.
type Judged[T any] struct{ value T }

// Value is what was judged. It is not to be changed.
func (x Judged[T]) Value() T { return x.value }

// JudgeContainer judges the container of a workspace.
func JudgeContainer(c Container, s judge.Subject) (Judged[Container], error) {
	j := judge.New(s)
	judgeContainer(j, &c)
	return Judged[Container]{c}, j.Err()
}

// JudgeService judges a service beside a workspace.
func JudgeService(v Service, s judge.Subject) (Judged[Service], error) {
	j := judge.New(s)
	judgeService(j, &v)
	return Judged[Service]{v}, j.Err()
}

// JudgeNetworks judges the networks of a workspace.
func JudgeNetworks(list []Network, s judge.Subject) (Judged[[]Network], error) {
	j := judge.New(s)
	judgeNetworks(j, list)
	return Judged[[]Network]{list}, j.Err()
}

// JudgeRecipe judges how an image is built.
func JudgeRecipe(r *recipe.Recipe, s judge.Subject) (Judged[recipe.Recipe], error) {
	j := judge.New(s)
	judgeRecipe(j, nil, r)
	return Judged[recipe.Recipe]{*r}, j.Err()
}

// JudgeImage judges the image of a workspace or a service.
func JudgeImage(name string, s judge.Subject) (judge.Image, error) {
	j := judge.New(s)
	i := j.Image("", name)
	return i, j.Err()
}

// Made are the names of the images that a plan builds: they are its workspace's own.
func (p *Plan) Made() (names []string) {
	if p.Recipe != nil {
		names = append(names, p.Recipe.Tag())
	}
	for _, v := range p.Services {
		if v.Recipe != nil {
			names = append(names, v.Recipe.Tag())
		}
	}
	return names
}

// judge judges all of a plan that goes to a site.
func (p *Plan) judge(j *judge.Judge) {
	j.Images = append(j.Images, p.Made()...)
	container := p.Container // judging writes names of images out whole
	judgeContainer(j, &container)
	for i, v := range p.Services {
		if i == judge.MostServices {
			j.RefuseFor("name those that are needed in runServices", v.Places.At("Image", v.Image), "a workspace has at most %d services beside its own, and this is service %s of %d", i, v.Name, len(p.Services))
			break
		}
		judgeService(j, &v)
	}
	judgeNetworks(j, p.Networks)
	if p.Recipe != nil {
		judgeRecipe(j, p.Container.Places, p.Recipe)
	}
}

// A rule judges one field. The name is for the table of rules in docs/trust.md. A rule
// without a function stands for a field that only Domicile itself fills.
type rule[T any] struct {
	name string
	of   func(x *placed, v *T)
}

// placed is a judge that knows where things are written.
type placed struct {
	*judge.Judge
	places Places
	before string // names whose setting it is, where it is a service's
}

func (x *placed) at(field, value string) string {
	place := x.places.At(field, value)
	if x.before == "" {
		return place
	}
	if place != "" {
		place += ": "
	}
	return place + x.before
}

// all judges each value of a list.
func all(x *placed, field string, list []string, judge func(place, value string)) {
	for _, v := range list {
		judge(x.at(field, v), v)
	}
}

// apply judges every field of a value. A field without a rule is refused as soon as it is
// not at its zero.
func apply[T any](x *placed, v *T, rules map[string]rule[T]) {
	value := reflect.ValueOf(v).Elem()
	for i := range value.NumField() {
		name := value.Type().Field(i).Name
		r, known := rules[name]
		switch {
		case !known && !value.Field(i).IsZero():
			x.Refuse(x.at("", ""), "the setting %s has no rule, and is not given", name)
		case r.of != nil:
			r.of(x, v)
		}
	}
}

var containerRules = map[string]rule[Container]{
	"Image":       {"Image", func(x *placed, c *Container) { c.Image = x.Image(x.at("Image", ""), c.Image).Name() }},
	"User":        {"User", func(x *placed, c *Container) { x.User(x.at("User", ""), c.User) }},
	"Env":         {"Variable", func(x *placed, c *Container) { variables(x, c.Env) }},
	"Init":        {"harmless: a first process that reaps", nil},
	"Hostname":    {"HostName", func(x *placed, c *Container) { x.HostName(x.at("Hostname", ""), c.Hostname) }},
	"Override":    {"harmless: which first process", nil},
	"Entrypoints": {"Text", func(x *placed, c *Container) { all(x, "Entrypoints", c.Entrypoints, x.Text) }},
	"LeastMemory": {"Amount", func(x *placed, c *Container) { x.Amount(x.at("", ""), c.LeastMemory) }},
	"SourceTarget": {"Target", func(x *placed, c *Container) {
		if c.SourceTarget != "" {
			x.Target(x.at("SourceTarget", ""), c.SourceTarget)
		}
	}},
	"SourceFolder": {"HostFolder", func(x *placed, c *Container) { x.HostFolder("", c.SourceFolder) }},
	"SourceOf":     {"Helped", func(x *placed, c *Container) { x.Helped("", c.SourceOf) }},
	"HelperOf":     {"Helped", func(x *placed, c *Container) { x.Helped("", c.HelperOf) }},
	"Door":         {"Domicile's own: the agent opens it, and the site serves it", nil},
	"Screen": {"a size in pixels that a definition may ask for", func(x *placed, c *Container) {
		if c.Screen != "" && !definition.IsScreen(c.Screen) {
			x.Refuse(x.at("", ""), "%q is no size of a screen", c.Screen)
		}
	}},
	"Saved": {"Image", func(x *placed, c *Container) {
		if c.Saved != "" {
			madeHere(x, c.Saved)
		}
	}},
	"Prepared": {"Domicile's own: how Saved came to be", nil},
	"Settings": {"each of its fields", func(x *placed, c *Container) { apply(x, &c.Settings, settingRules) }},
	"Service": {"each of its fields", func(x *placed, c *Container) {
		if c.Service != nil {
			own := *c.Service
			own.Image, own.Saved = c.Image, c.Saved // the service's own image was replaced by the container's
			apply(&placed{Judge: x.Judge, places: own.Places, before: "service " + own.Name}, &own, serviceRules)
		}
	}},
	"Digest": {"Digest", func(x *placed, c *Container) { x.Digest("", c.Digest) }},
	"Places": {"Domicile's own: it stays in the records", nil},
}

var settingRules = map[string]rule[Settings]{
	"Mounts": {"Mount", func(x *placed, s *Settings) {
		for _, m := range s.Mounts {
			x.Mount(x.at("Mounts", m.Target), judge.Mount{Type: m.Type, Source: m.Source, Target: m.Target})
			x.SharedMemory(x.at("Mounts", m.Target), m.Size)
		}
	}},
	"Privileged":  {"Privileged", func(x *placed, s *Settings) { x.Privileged(x.at("Privileged", ""), s.Privileged) }},
	"CapAdd":      {"Capability", func(x *placed, s *Settings) { all(x, "CapAdd", s.CapAdd, x.Capability) }},
	"CapDrop":     {"DroppedCapability", func(x *placed, s *Settings) { all(x, "CapDrop", s.CapDrop, x.DroppedCapability) }},
	"SecurityOpt": {"SecurityOption", func(x *placed, s *Settings) { all(x, "SecurityOpt", s.SecurityOpt, x.SecurityOption) }},
	"Devices":     {"Device", func(x *placed, s *Settings) { all(x, "Devices", s.Devices, x.Device) }},
	"GPUs":        {"GPUs", func(x *placed, s *Settings) { x.GPUs(x.at("GPUs", ""), s.GPUs) }},
	"Network":     {"Network", func(x *placed, s *Settings) { x.Network(x.at("Network", ""), s.Network) }},
	"NetworkOf":   {"NetworkOf", func(x *placed, s *Settings) { x.NetworkOf(x.at("Network", ""), s.NetworkOf) }},
	"Spaces": {"Space", func(x *placed, s *Settings) {
		for _, name := range slices.Sorted(maps.Keys(s.Spaces)) {
			x.Space(x.at("Spaces", name), name, s.Spaces[name])
		}
	}},
	"SharedMemory": {"SharedMemory", func(x *placed, s *Settings) { x.SharedMemory(x.at("SharedMemory", ""), s.SharedMemory) }},
	"Memory":       {"Amount", func(x *placed, s *Settings) { x.Amount(x.at("Memory", ""), s.Memory) }},
	"CPUs":         {"Processors", func(x *placed, s *Settings) { x.Processors(x.at("CPUs", ""), s.CPUs) }},
	"Processes":    {"Processes", func(x *placed, s *Settings) { x.Processes(x.at("Processes", ""), s.Processes) }},
	"Hosts": {"HostEntry", func(x *placed, s *Settings) {
		x.Hosts(x.at("Hosts", ""), s.Hosts)
		all(x, "Hosts", s.Hosts, x.HostEntry)
	}},
	"DNS":       {"Address", func(x *placed, s *Settings) { all(x, "DNS", s.DNS, x.Address) }},
	"DNSSearch": {"SearchDomain", func(x *placed, s *Settings) { all(x, "DNSSearch", s.DNSSearch, x.SearchDomain) }},
	"Groups":    {"Group", func(x *placed, s *Settings) { all(x, "Groups", s.Groups, x.Group) }},
	"Ulimits":   {"Ulimit", func(x *placed, s *Settings) { all(x, "Ulimits", s.Ulimits, x.Ulimit) }},
	"Sysctls": {"Sysctl", func(x *placed, s *Settings) {
		for _, name := range slices.Sorted(maps.Keys(s.Sysctls)) {
			x.Sysctl(x.at("Sysctls", name), name, s.Sysctls[name])
		}
	}},
	"ReadOnly": {"harmless: less may be written", nil},
}

var serviceRules = map[string]rule[Service]{
	"Name":       {"ServiceName", func(x *placed, v *Service) { x.ServiceName(x.at("", ""), v.Name) }},
	"Image":      {"Image", func(x *placed, v *Service) { v.Image = x.Image(x.at("Image", ""), v.Image).Name() }},
	"Recipe":     {"each of its fields", serviceRecipe},
	"Settings":   {"each of its fields", func(x *placed, v *Service) { apply(x, &v.Settings, settingRules) }},
	"Init":       {"harmless: a first process that reaps", nil},
	"Command":    {"Text", func(x *placed, v *Service) { all(x, "Command", v.Command, x.Text) }},
	"Entrypoint": {"Text", func(x *placed, v *Service) { all(x, "Entrypoint", v.Entrypoint, x.Text) }},
	"Env":        {"Variable", func(x *placed, v *Service) { variables(x, v.Env) }},
	"User":       {"User", func(x *placed, v *Service) { x.User(x.at("User", ""), v.User) }},
	"Folder":     {"StartFolder", func(x *placed, v *Service) { x.StartFolder(x.at("Folder", ""), v.Folder) }},
	"Hostname":   {"HostName", func(x *placed, v *Service) { x.HostName(x.at("Hostname", ""), v.Hostname) }},
	"Networks": {"ServiceName, HostName", func(x *placed, v *Service) {
		for i := range v.Networks {
			apply(x, &v.Networks[i], attachmentRules)
		}
	}},
	"After": {"ServiceName", func(x *placed, v *Service) {
		for i := range v.After {
			apply(x, &v.After[i], dependencyRules)
		}
	}},
	"Health": {"HealthCheck", func(x *placed, v *Service) {
		if v.Health != nil {
			apply(x, v.Health, healthRules)
		}
	}},
	"Restart":    {"Restart", func(x *placed, v *Service) { x.Restart(x.at("Restart", ""), v.Restart) }},
	"StopSignal": {"Signal", func(x *placed, v *Service) { x.Signal(x.at("StopSignal", ""), v.StopSignal) }},
	"Grace":      {"Grace", func(x *placed, v *Service) { x.Grace(x.at("Grace", ""), v.Grace) }},
	"Saved": {"Image", func(x *placed, v *Service) {
		if v.Saved != "" {
			madeHere(x, v.Saved)
		}
	}},
	"Hooks": {"each of its fields", func(x *placed, v *Service) {
		for i := range v.Hooks {
			apply(x, &v.Hooks[i], hookRules)
		}
	}},
	"Joins":    {"Digest", func(x *placed, v *Service) { x.Digest("", v.Joins) }},
	"Profiled": {"Domicile's own: whether it runs", nil},
	"Late":     {"Domicile's own: when it starts", nil},
	"File":     {"Domicile's own: it stays in the records", nil},
	"Line":     {"Domicile's own: it stays in the records", nil},
	"Places":   {"Domicile's own: it stays in the records", nil},
}

func serviceRecipe(x *placed, v *Service) {
	if v.Recipe != nil {
		judgeRecipe(x.Judge, v.Places, v.Recipe)
	}
}

var networkRules = map[string]rule[Network]{
	"Name":     {"ServiceName", func(x *placed, n *Network) { x.ServiceName("", n.Name) }},
	"Internal": {"harmless: no way out", nil},
	"Subnets":  {"Subnet", func(x *placed, n *Network) { all(x, "Subnets", n.Subnets, x.Subnet) }},
}

var hookRules = map[string]rule[Hook]{
	"Command":    {"Text", func(x *placed, h *Hook) { all(x, "Hooks", h.Command, x.Text) }},
	"User":       {"User", func(x *placed, h *Hook) { x.User(x.at("Hooks", ""), h.User) }},
	"Folder":     {"StartFolder", func(x *placed, h *Hook) { x.StartFolder(x.at("Hooks", ""), h.Folder) }},
	"Env":        {"Variable", func(x *placed, h *Hook) { variables(x, h.Env) }},
	"Privileged": {"Privileged", func(x *placed, h *Hook) { x.Privileged(x.at("Hooks", ""), h.Privileged) }},
}

var attachmentRules = map[string]rule[Attachment]{
	"Network": {"ServiceName", func(x *placed, a *Attachment) { x.ServiceName(x.at("Networks", a.Network), a.Network) }},
	"Aliases": {"HostName", func(x *placed, a *Attachment) { all(x, "Networks", a.Aliases, x.HostName) }},
	"IPv4":    {"Address", func(x *placed, a *Attachment) { address(x, a.IPv4) }},
	"IPv6":    {"Address", func(x *placed, a *Attachment) { address(x, a.IPv6) }},
	"MAC":     {"MAC", func(x *placed, a *Attachment) { x.MAC(x.at("Networks", ""), a.MAC) }},
}

// address judges an address that may be left out.
func address(x *placed, text string) {
	if text != "" {
		x.Address(x.at("Networks", ""), text)
	}
}

var dependencyRules = map[string]rule[Dependency]{
	"Service":   {"ServiceName", func(x *placed, d *Dependency) { x.ServiceName(x.at("After", d.Service), d.Service) }},
	"Condition": {"Domicile's own: what is waited for", nil},
	"Optional":  {"Domicile's own: what is waited for", nil},
}

var healthRules = map[string]rule[Health]{
	"Test": {"HealthCheck", func(x *placed, h *Health) {
		x.HealthCheck(x.at("Health", ""), h.Test, h.Interval, h.Timeout, h.StartPeriod)
	}},
	"Interval":    {"HealthCheck", nil},
	"Timeout":     {"HealthCheck", nil},
	"StartPeriod": {"HealthCheck", nil},
	"Retries":     {"harmless: how often", nil},
}
