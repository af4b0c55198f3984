package compose

import (
	"fmt"
	"io/fs"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/compose-spec/compose-go/v2/types"
	"github.com/docker/go-units"

	"domicile/internal/definition"
	"domicile/internal/plan"
	"domicile/internal/recipe"
)

// mostNetworks bounds the networks of a workspace: its host has not many addresses for them.
const mostNetworks = 20

// plan turns a project into services as a site makes them. What has no equivalent is refused
// by name and line; what reaches for the host is left for the policy.
func (p *Project) plan(out *Reading) {
	for _, name := range p.NetworkNames() {
		n := p.Networks[name]
		file, line := p.partPlace("networks", name)
		if len(out.Networks) == mostNetworks {
			p.refuse(file, line, "the network %s is one more than the %d that a workspace may have", name, mostNetworks)
			break
		}
		if n.External {
			p.refuse(file, line, "the network %s is external: a workspace's services see only each other", name)
		}
		if n.Driver != "" && n.Driver != "bridge" && n.Driver != "default" {
			p.refuse(file, line, "the network %s has the driver %s, which is not carried out", name, n.Driver)
		}
		for _, attribute := range unknown(reflect.ValueOf(n)) {
			p.refuse(file, line, "the network %s: %s is not carried out", name, strings.Join(attribute, "."))
		}
		made := plan.Network{Name: name, Internal: n.Internal}
		for _, pool := range n.Ipam.Config {
			if pool != nil && pool.Subnet != "" {
				made.Subnets = append(made.Subnets, pool.Subnet)
			}
		}
		out.Networks = append(out.Networks, made)
	}
	slices.SortFunc(out.Networks, func(a, b plan.Network) int { return strings.Compare(a.Name, b.Name) })
	for name, v := range p.Volumes {
		if more := unknown(reflect.ValueOf(v)); len(more) > 0 || v.Driver != "" && v.Driver != "local" {
			file, line := p.partPlace("volumes", name)
			p.refuse(file, line, "the volume %s is not the workspace's own (external, a driver or its options)", name)
		}
	}
	for _, name := range p.ServiceNames() {
		out.Services = append(out.Services, p.planService(name))
	}
	p.links(out.Services)
	if out.Refused = p.refused; len(out.Refused) > 0 {
		out.Networks, out.Services = nil, nil
	}
}

// links gives services the names by which others link to them, on the networks that both
// are on.
func (p *Project) links(list []Service) {
	for _, from := range list {
		for _, link := range p.Services[from.Name].Links {
			name, alias, named := strings.Cut(link, ":")
			i := slices.IndexFunc(list, func(s Service) bool { return s.Name == name })
			if !named || i < 0 {
				continue
			}
			for j, a := range list[i].Networks {
				if slices.ContainsFunc(from.Networks, func(b plan.Attachment) bool { return b.Network == a.Network }) && !slices.Contains(a.Aliases, alias) {
					list[i].Networks[j].Aliases = append(a.Aliases, alias)
				}
			}
		}
	}
}

// mostRefused bounds how much is named that is not carried out.
const mostRefused = 50

// refuse adds a refusal for an attribute that Domicile does not support. The reading reports all refusals together.
func (p *Project) refuse(file string, line int, format string, args ...any) {
	if len(p.refused) < mostRefused {
		p.refused = append(p.refused, Refusal{"not-carried-out", fmt.Sprintf("%s:%d: %s", file, max(line, 1), fmt.Sprintf(format, args...)), "take it out of the Compose file"})
	}
}

func (p *Project) partPlace(part, name string) (string, int) {
	for _, t := range slices.Backward(p.texts) {
		if l := t.line(part, name); l > 0 {
			return t.file, l
		}
	}
	return p.texts[0].file, 1
}

func (p *Project) planService(name string) (out Service) {
	c := p.Services[name]
	out.Build = p.buildOf(c)
	s := &out.Service
	*s = plan.Service{Name: name, Image: c.Image, Command: c.Command, Entrypoint: c.Entrypoint, User: c.User, Folder: c.WorkingDir, Hostname: c.Hostname, StopSignal: c.StopSignal}
	s.File, s.Line = p.place(name)
	if s.Hostname == "" {
		s.Hostname = name
	}
	p.refuseUnknown(name, c)
	for k, v := range c.Environment {
		if s.Env == nil {
			s.Env = map[string]string{}
		}
		if v != nil {
			s.Env[k] = *v
		}
	}
	s.Profiled = len(c.Profiles) > 0 && !slices.ContainsFunc(c.Profiles, func(name string) bool { return slices.Contains(p.profiles, name) })
	s.Init = c.Init != nil && *c.Init
	if c.StopGracePeriod != nil {
		s.Grace = time.Duration(*c.StopGracePeriod)
	}
	if c.Restart != "no" {
		s.Restart = c.Restart
	}
	p.settings(s, c)
	p.mounts(s, c)
	s.After = after(c)
	s.Health = health(c.HealthCheck)
	for network, config := range c.Networks {
		a := plan.Attachment{Network: network, Aliases: []string{name}}
		if config != nil {
			a.Aliases = append(a.Aliases, config.Aliases...)
			a.IPv4, a.IPv6, a.MAC = config.Ipv4Address, config.Ipv6Address, config.MacAddress
		}
		if c.ContainerName != "" {
			a.Aliases = append(a.Aliases, c.ContainerName)
		}
		s.Networks = append(s.Networks, a)
	}
	slices.SortFunc(s.Networks, func(a, b plan.Attachment) int { return strings.Compare(a.Network, b.Network) })
	if c.MacAddress != "" && len(s.Networks) > 0 && s.Networks[0].MAC == "" {
		s.Networks[0].MAC = c.MacAddress
	}
	for _, h := range c.PostStart {
		hook := plan.Hook{Command: h.Command, User: h.User, Folder: h.WorkingDir, Privileged: h.Privileged}
		for k, v := range h.Environment {
			if v != nil {
				if hook.Env == nil {
					hook.Env = map[string]string{}
				}
				hook.Env[k] = *v
			}
		}
		s.Hooks = append(s.Hooks, hook)
	}
	p.places(s, c)
	return out
}

// places notes where the attributes stand that go into the service's container.
func (p *Project) places(s *plan.Service, c types.ServiceConfig) {
	note := func(field, value string, attribute ...string) {
		file, line := p.place(c.Name, attribute...)
		s.Places[strings.TrimSpace(field+" "+value)] = fmt.Sprintf("%s:%d", file, line)
	}
	s.Places = plan.Places{}
	note("", "")
	for field, attribute := range map[string]string{"Image": "image", "Dockerfile": "build", "User": "user", "Folder": "working_dir", "Hostname": "hostname", "Networks": "networks", "After": "depends_on", "Health": "healthcheck",
		"Restart": "restart", "StopSignal": "stop_signal", "Grace": "stop_grace_period", "Privileged": "privileged", "CapAdd": "cap_add", "CapDrop": "cap_drop", "SecurityOpt": "security_opt", "Devices": "devices",
		"Network": "network_mode", "SharedMemory": "shm_size", "Memory": "mem_limit", "CPUs": "cpus", "Processes": "pids_limit", "Hosts": "extra_hosts", "DNS": "dns", "DNSSearch": "dns_search", "Hooks": "post_start", "Groups": "group_add", "Ulimits": "ulimits",
		"Sysctls": "sysctls", "Mounts": "volumes", "Command": "command", "Entrypoint": "entrypoint", "Env": "environment"} {
		note(field, "", attribute)
	}
	for space, attribute := range map[string]string{"pid": "pid", "ipc": "ipc", "uts": "uts", "userns": "userns_mode", "cgroupns": "cgroup"} {
		note("Spaces", space, attribute)
	}
	for _, t := range c.Tmpfs {
		target, _, _ := strings.Cut(t, ":")
		note("Mounts", target, "tmpfs")
	}
}

func (p *Project) settings(s *plan.Service, c types.ServiceConfig) {
	s.Privileged, s.CapAdd, s.CapDrop, s.SecurityOpt, s.ReadOnly = c.Privileged, c.CapAdd, c.CapDrop, c.SecurityOpt, c.ReadOnly
	s.SharedMemory, s.DNS, s.DNSSearch, s.Groups = int64(c.ShmSize), c.DNS, c.DNSSearch, c.GroupAdd
	s.Memory, s.CPUs, s.Processes = int64(c.MemLimit), float64(c.CPUS), c.PidsLimit
	if c.Deploy != nil && c.Deploy.Resources.Limits != nil {
		most := c.Deploy.Resources.Limits
		s.Memory, s.CPUs, s.Processes = int64(most.MemoryBytes), float64(most.NanoCPUs), max(most.Pids, s.Processes)
	}
	s.Network = c.NetworkMode
	spaces := map[string]string{}
	for space, value := range map[string]string{"pid": c.Pid, "ipc": c.Ipc, "uts": c.Uts, "userns": c.UserNSMode, "cgroupns": c.Cgroup} {
		if value != "" && value != "private" {
			spaces[space] = value
		}
	}
	if len(spaces) > 0 {
		s.Spaces = spaces
	}
	for host, addresses := range c.ExtraHosts {
		for _, a := range addresses {
			s.Hosts = append(s.Hosts, host+":"+a)
		}
	}
	slices.Sort(s.Hosts)
	for name, u := range c.Ulimits {
		soft, hard := u.Soft, u.Hard
		if u.Single != 0 {
			soft, hard = u.Single, u.Single
		}
		s.Ulimits = append(s.Ulimits, fmt.Sprintf("%s=%d:%d", name, soft, hard))
	}
	slices.Sort(s.Ulimits)
	for _, d := range c.Devices {
		s.Devices = append(s.Devices, d.Source+":"+d.Target+":"+d.Permissions)
	}
	if len(c.Sysctls) > 0 {
		s.Sysctls = c.Sysctls
	}
}

// mounts maps volumes; a mount of the repository itself is the source, one of a file in
// it is a copy, made when the container is made.
func (p *Project) mounts(s *plan.Service, c types.ServiceConfig) {
	for _, v := range c.Volumes {
		m := plan.Mount{Type: v.Type, Source: v.Source, Target: v.Target, ReadOnly: v.ReadOnly}
		if v.Tmpfs != nil {
			m.Size = int64(v.Tmpfs.Size)
		}
		if v.Type == types.VolumeTypeBind {
			rest, own := strings.CutPrefix(v.Source, "./")
			switch {
			case v.Source == "..": // the source below its name: what templates of the standard write
				m.Type = "source"
			case own && rest == "":
				m.Type, m.Source = "source", ""
			case own:
				m.Type, m.Source = "file", path.Clean(rest)
			}
		}
		switch m.Type {
		case "bind", "volume", "tmpfs", "source", "file":
			s.Mounts = append(s.Mounts, m)
		default:
			file, line := p.place(c.Name, "volumes")
			p.refuse(file, line, "service %s: a volume of type %s has no equivalent", c.Name, v.Type)
		}
	}
	for _, t := range c.Tmpfs {
		target, options, _ := strings.Cut(t, ":")
		m := plan.Mount{Type: "tmpfs", Target: target}
		for _, o := range strings.Split(options, ",") {
			if size, is := strings.CutPrefix(o, "size="); is {
				n, err := units.RAMInBytes(size)
				if err != nil {
					file, line := p.place(c.Name, "tmpfs")
					p.refuse(file, line, "service %s: %q is no size of a tmpfs", c.Name, size)
				}
				m.Size = n
			}
		}
		s.Mounts = append(s.Mounts, m)
	}
	for _, x := range c.Configs {
		p.fileMount(s, c, "configs", x.Source, x.Target, p.Configs[x.Source].File)
	}
	for _, x := range c.Secrets {
		target := x.Target
		if !path.IsAbs(target) {
			if target == "" {
				target = x.Source
			}
			target = path.Join("/run/secrets", target)
		}
		p.fileMount(s, c, "secrets", x.Source, target, p.Secrets[x.Source].File)
	}
}

func (p *Project) fileMount(s *plan.Service, c types.ServiceConfig, part, source, target, file string) {
	if file == "" || path.IsAbs(file) || !recipe.Inside(file) {
		at, line := p.partPlace(part, source)
		p.refuse(at, line, "%s %s is no file of the repository", strings.TrimSuffix(part, "s"), source)
		return
	}
	if target == "" {
		target = "/" + source
	}
	s.Mounts = append(s.Mounts, plan.Mount{Type: "file", Source: file, Target: target, ReadOnly: true})
}

func after(c types.ServiceConfig) (list []plan.Dependency) {
	for name, d := range c.DependsOn {
		list = append(list, plan.Dependency{Service: name, Condition: d.Condition, Optional: !d.Required})
	}
	slices.SortFunc(list, func(a, b plan.Dependency) int { return strings.Compare(a.Service, b.Service) })
	return list
}

func health(h *types.HealthCheckConfig) *plan.Health {
	if h == nil {
		return nil
	}
	if h.Disable {
		return &plan.Health{Test: []string{"NONE"}}
	}
	out := &plan.Health{Test: h.Test}
	for _, d := range []struct {
		to   *time.Duration
		from *types.Duration
	}{{&out.Interval, h.Interval}, {&out.Timeout, h.Timeout}, {&out.StartPeriod, h.StartPeriod}} {
		if d.from != nil {
			*d.to = time.Duration(*d.from)
		}
	}
	if h.Retries != nil {
		out.Retries = int(*h.Retries)
	}
	return out
}

// idle tells of attributes that have no effect here, at their lines.
func (p *Project) idle() (list []definition.Problem) {
	for _, name := range p.ServiceNames() {
		for _, attribute := range idle(reflect.ValueOf(p.Services[name])) {
			file, line := p.place(name, attribute...)
			list = append(list, definition.Problem{Severity: definition.Note, Code: "no-effect", File: file, Line: max(line, 1), Column: 1, Message: fmt.Sprintf("service %s: %s has no effect here", name, strings.Join(attribute, "."))})
		}
	}
	return list
}

// refuseUnknown names what Domicile does not carry out of a service.
func (p *Project) refuseUnknown(name string, c types.ServiceConfig) {
	if c.Scale != nil && *c.Scale == 1 {
		c.Scale = nil
	}
	if c.Build != nil && c.Build.Network == "default" {
		own := *c.Build
		own.Network = ""
		c.Build = &own
	}
	if c.Build != nil {
		for context, of := range c.Build.AdditionalContexts {
			if _, is := definition.ImageContext(of); !is && (strings.Contains(of, ":") || !fs.ValidPath(of)) {
				file, line := p.place(name, "build", "additional_contexts")
				p.refuse(file, line, "service %s: the build's context %s is %s; folders of the repository and docker-image://… are carried out", name, context, of)
			}
		}
	}
	for _, attribute := range unknown(reflect.ValueOf(c)) {
		file, line := p.place(name, attribute...)
		p.refuse(file, line, "service %s: %s is not carried out", name, strings.Join(attribute, "."))
	}
	if c.Platform != "" && !strings.HasPrefix(c.Platform, "linux") {
		file, line := p.place(name, "platform")
		p.refuse(file, line, "service %s: platform %s is not carried out", name, c.Platform)
	}
}
