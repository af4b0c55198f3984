package compare

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"domicile/internal/amount"
	"domicile/internal/definition"
	"domicile/internal/plan"
	"domicile/internal/recipe"
)

// Facts are what a plan tells of what a workspace was made from: its definition by the
// standard's names of the properties, its images, its limits.
func Facts(p *plan.Plan) map[Kind]map[string]string {
	f := facts{Definition: {}, Image: {}, Limit: {}}
	f.images(p.ImageName, p.Image, p.Recipe, "")
	f.container(p)
	for _, s := range p.Services {
		f.images(s.Image, s.Image, s.Recipe, "service "+s.Name+" ")
		f.settings(s.Settings, "service "+s.Name+" ")
		f.variables("service "+s.Name+" environment ", s.Env)
	}
	for _, s := range p.Steps {
		f.commands(s.Name, s.Commands)
	}
	f.commands("postAttachCommand", p.Attached)
	for _, port := range p.Ports {
		f.note(Definition, "forwardPorts "+port.Port.String(), "forwarded")
	}
	for _, name := range p.Secrets {
		f.note(Definition, "secrets "+name, "asked for")
	}
	if d := p.Domicile; d != nil {
		for _, c := range d.Checks {
			f.note(Definition, "check "+c.Name, encoded(c))
		}
		f.note(Definition, "engine of its own", told(d.Engine))
	}
	f.note(Limit, "size", p.Size.Name)
	if p.Container.Memory > 0 {
		f.note(Limit, "memory", amount.Of(p.Container.Memory))
	}
	if p.Container.CPUs > 0 {
		f.note(Limit, "processors", strconv.FormatFloat(p.Container.CPUs, 'f', -1, 64))
	}
	if p.Container.Processes > 0 {
		f.note(Limit, "processes", strconv.FormatInt(p.Container.Processes, 10))
	}
	return f
}

type facts map[Kind]map[string]string

// note notes what there is: an empty value is none.
func (f facts) note(kind Kind, name, value string) {
	if value != "" {
		f[kind][name] = value
	}
}

// images notes what an image is, by its name and digest, or what it is built from.
func (f facts) images(name, pinned string, built *recipe.Recipe, of string) {
	if built == nil {
		if pinned == "" {
			return
		}
		f.note(Definition, of+"image", firstOf(name, pinned))
		f.note(Image, of+"image", pinned)
		return
	}
	if built.Base != "" {
		f.note(Definition, of+"image", built.Base)
		f.note(Image, of+"image", firstOf(built.Pins[built.Base], built.Base))
	}
	if d := built.Dockerfile; d != nil {
		f.note(Definition, of+"build.dockerfile", d.Path)
		f.note(Definition, of+"build.context", d.Context)
		f.note(Definition, of+"build.target", d.Target)
		f.note(Definition, of+"build files", d.Content)
		f.variables(of+"build.args ", d.Args)
		for written, pin := range built.Pins {
			f.note(Image, of+"FROM "+written, pin)
		}
	}
	for _, l := range built.Layers {
		id, _, _ := strings.Cut(l.Reference, "@")
		f.note(Definition, of+"feature "+id, encoded(l.Options))
		f.note(Image, of+"feature "+id, l.Title+" "+l.Digest)
	}
}

func (f facts) container(p *plan.Plan) {
	c := p.Container
	f.note(Definition, "containerUser", c.User)
	f.note(Definition, "remoteUser", p.Session.User)
	f.note(Definition, "workspaceFolder", p.Session.Folder)
	f.note(Definition, "userEnvProbe", p.Session.Probe)
	f.note(Definition, "init", told(c.Init))
	f.note(Definition, "overrideCommand", told(c.Override))
	f.note(Definition, "shutdownAction", p.Shutdown)
	f.note(Definition, "entrypoint", strings.Join(c.Entrypoints, "; "))
	f.variables("containerEnv ", c.Env)
	for name, value := range p.Session.Env {
		if value == nil {
			f.note(Definition, "remoteEnv "+name, "taken away")
		} else {
			f.note(Definition, "remoteEnv "+name, quiet(name, *value))
		}
	}
	f.settings(c.Settings, "")
}

// settings notes what a container may be given. What mounts of volumes are called is left out:
// each workspace has its own.
func (f facts) settings(s plan.Settings, of string) {
	for _, m := range s.Mounts {
		value := m.Type
		if m.Type == "bind" {
			value += " of " + m.Source
		}
		if m.ReadOnly {
			value += ", read-only"
		}
		f.note(Definition, of+"mount "+m.Target, value)
	}
	f.note(Definition, of+"privileged", told(s.Privileged))
	for name, list := range map[string][]string{"capAdd": s.CapAdd, "capDrop": s.CapDrop, "securityOpt": s.SecurityOpt, "devices": s.Devices, "groups": s.Groups, "ulimits": s.Ulimits, "hosts": s.Hosts, "dns": s.DNS} {
		f.note(Definition, of+name, strings.Join(slices.Sorted(slices.Values(list)), ", "))
	}
	f.note(Definition, of+"gpus", s.GPUs)
	f.note(Definition, of+"network", s.Network)
	f.note(Definition, of+"read-only", told(s.ReadOnly))
	for _, name := range slices.Sorted(maps.Keys(s.Sysctls)) {
		f.note(Definition, of+"sysctl "+name, s.Sysctls[name])
	}
	if s.SharedMemory > 0 {
		f.note(Definition, of+"shared memory", amount.Of(s.SharedMemory))
	}
}

func (f facts) variables(of string, env map[string]string) {
	for name, value := range env {
		f.note(Definition, of+name, quiet(name, value))
	}
}

// quiet keeps back the value of a variable that may be a secret.
func quiet(name, value string) string {
	if secretly.MatchString(name) {
		return notTold
	}
	return value
}

func (f facts) commands(stage string, list []definition.Command) {
	for i, c := range list {
		name := stage
		if c.From != "" && c.From != "definition" {
			name += " of " + c.From
		}
		if i > 0 {
			name += fmt.Sprintf(" (%d)", i+1)
		}
		f.note(Definition, name, compact(c.Command))
	}
}

func told(is bool) string {
	if is {
		return "yes"
	}
	return ""
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return t
		}
	}
	return ""
}

// compact is a command as one line: a string as it is, else as JSON.
func compact(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return text
	}
	return encoded(raw)
}

func encoded(v any) string {
	b, err := json.Marshal(v)
	if err != nil || string(b) == "null" || string(b) == "{}" { // only plain data is given
		return "without options"
	}
	return string(b)
}
