package compose

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/compose-spec/compose-go/v2/types"

	"domicile/internal/definition"
)

var errUnreadable = errors.New("it cannot be read")

var (
	yamlLine  = regexp.MustCompile(`line (\d+)`)
	yamlPlace = regexp.MustCompile(`^(while [a-z ]+: )?line \d+(, column \d+)?`)
)

func lineOf(message string) int {
	if m := yamlLine.FindStringSubmatch(message); m != nil {
		n, _ := strconv.Atoi(m[1]) // digits only
		return n
	}
	return 1
}

// facts gives what a definition needs to know.
func (p *Project) facts() *definition.ComposeFacts {
	f := &definition.ComposeFacts{Files: p.Files}
	for _, name := range p.AllServiceNames() {
		s := p.service(name)
		c := definition.ComposeService{Name: name, Image: s.Image, User: s.User, Build: p.buildOf(s)}
		c.File, c.Line = p.place(name)
		for dependency := range s.DependsOn {
			c.DependsOn = append(c.DependsOn, dependency)
		}
		slices.Sort(c.DependsOn)
		for _, port := range s.Ports {
			c.Ports = append(c.Ports, strconv.Itoa(int(port.Target)))
		}
		for _, port := range s.Expose {
			if !slices.Contains(c.Ports, port) {
				c.Ports = append(c.Ports, port)
			}
		}
		for _, v := range s.Volumes {
			c.Volumes = append(c.Volumes, v.Target)
		}
		for _, a := range Asks(s) {
			c.Asks = append(c.Asks, a.Words)
		}
		f.Services = append(f.Services, c)
	}
	return f
}

func (p *Project) service(name string) types.ServiceConfig {
	if s, ok := p.Services[name]; ok {
		return s
	}
	return p.DisabledServices[name]
}

// AllServiceNames lists the services with those of profiles, in order.
func (p *Project) AllServiceNames() []string {
	names := append(p.ServiceNames(), p.DisabledServiceNames()...)
	slices.Sort(names)
	return names
}

func (p *Project) buildOf(s types.ServiceConfig) *definition.Build {
	if s.Build == nil {
		return nil
	}
	b := &definition.Build{Context: s.Build.Context, Dockerfile: s.Build.Dockerfile, Target: s.Build.Target, CacheFrom: definition.Texts(s.Build.CacheFrom)}
	if b.Dockerfile == "" {
		b.Dockerfile = "Dockerfile"
	}
	for _, host := range s.Build.ExtraHosts.AsList(":") {
		b.Options = append(b.Options, "--add-host="+host)
	}
	slices.Sort(b.Options)
	for name, of := range s.Build.AdditionalContexts {
		if b.Contexts == nil {
			b.Contexts = map[string]string{}
		}
		b.Contexts[name] = of
	}
	if s.Build.DockerfileInline != "" {
		b.Dockerfile, b.Inline = "dockerfile_inline of the service "+s.Name, s.Build.DockerfileInline
		b.InlineFile, b.InlineLine = p.place(s.Name, "build", "dockerfile_inline")
	} else if !path.IsAbs(b.Dockerfile) {
		b.Dockerfile = path.Join(b.Context, b.Dockerfile)
	}
	for name, value := range s.Build.Args {
		if value != nil {
			if b.Args == nil {
				b.Args = map[string]string{}
			}
			b.Args[name] = *value
		}
	}
	return b
}

// Ask is something a service wants of the host beyond a plain container.
type Ask struct {
	Attribute string // of the service, as the Compose file names it
	Words     string
}

// Asks lists what a service wants of the host beyond a plain container.
func Asks(s types.ServiceConfig) (list []Ask) {
	ask := func(attribute, format string, args ...any) {
		list = append(list, Ask{attribute, fmt.Sprintf(format, args...)})
	}
	if s.Privileged {
		ask("privileged", "all rights over the host (privileged)")
	}
	for _, c := range s.CapAdd {
		ask("cap_add", "the capability %s", c)
	}
	for _, o := range s.SecurityOpt {
		ask("security_opt", "the security option %s", o)
	}
	for _, d := range s.Devices {
		ask("devices", "the host's device %s", d.Source)
	}
	for attribute, value := range map[string]string{"network_mode": s.NetworkMode, "pid": s.Pid, "ipc": s.Ipc, "userns_mode": s.UserNSMode, "uts": s.Uts, "cgroup": s.Cgroup} {
		if value == "host" {
			ask(attribute, "the host's own %s", strings.TrimSuffix(attribute, "_mode"))
		} else if strings.HasPrefix(value, "container:") {
			ask(attribute, "the %s of another container", strings.TrimSuffix(attribute, "_mode"))
		}
	}
	for _, v := range s.Volumes {
		if v.Type == types.VolumeTypeBind && !strings.HasPrefix(v.Source, "./") && v.Source != ".." {
			ask("volumes", "the host's folder %s", v.Source)
		}
	}
	slices.SortStableFunc(list, func(a, b Ask) int { return strings.Compare(a.Attribute, b.Attribute) })
	return list
}
