package definition

import (
	"fmt"
	"slices"
	"strings"
)

// Fact is one thing that a definition makes, in words.
type Fact struct {
	What string `json:"what"` // such as "tool", "port", "runs"
	Text string `json:"text"`
	From string `json:"from,omitempty"` // where it is not the definition itself
}

// Facts says in words what the definition makes: the system, the tools, the services,
// the ports, the user, what runs when, and what it asks of the host.
func (r *Report) Facts() []Fact {
	if r.Makes != nil {
		return r.Makes
	}
	e := r.Effective
	list := []Fact{}
	if e == nil {
		return list
	}
	add := func(what, from, format string, args ...any) {
		if from == fromDefinition {
			from = ""
		}
		list = append(list, Fact{what, fmt.Sprintf(format, args...), from})
	}
	if e.Name != "" {
		add("name", "", "%s", e.Name)
	}
	r.describeSystem(add)
	for _, f := range r.Features {
		by := ""
		if f.AddedBy != "" {
			by = "needed by " + f.AddedBy
		}
		add("tool", by, "%s", f.words())
	}
	r.describeServices(add)
	for _, p := range e.ForwardPorts {
		a := e.Attributes(p)
		add("port", "", "%s", strings.Join(nonEmpty(p.String(), a.Label, a.Protocol), ", "))
	}
	user := e.RemoteUser
	if user == "" {
		user = e.ContainerUser
	}
	if user == "" {
		user = "the image's own user"
	}
	add("user", "", "%s, in %s", user, e.WorkspaceFolder)
	for _, stage := range append([]string{"initializeCommand"}, Lifecycle...) {
		for _, c := range e.Stage(stage) {
			add("runs", c.From, "%s: %s", when(stage), c.Words())
		}
	}
	r.describeOwn(add)
	for _, ask := range r.asks() {
		add("asks the host", "", "%s", ask)
	}
	return list
}

func (r *Report) describeSystem(add func(what, from, format string, args ...any)) {
	e := r.Effective
	switch {
	case r.Kind == KindImage:
		add("system", "", "the image %s", e.Image)
	case r.Kind == KindDockerfile && e.Build != nil:
		base := ""
		for _, i := range r.Images {
			if i.File == e.Build.Dockerfile {
				base = ", from " + i.Reference
			}
		}
		add("system", "", "built from %s%s", e.Build.Dockerfile, base)
	case r.Kind == KindCompose:
		add("system", "", "the service %s of %s", e.Service, strings.Join(e.DockerComposeFile, ", "))
	}
}

func (r *Report) describeServices(add func(what, from, format string, args ...any)) {
	for _, s := range r.Services {
		comes := "the image " + s.Image
		if s.Build != nil {
			comes = "built from " + s.Build.Dockerfile
		}
		if s.Name == r.Effective.Service {
			comes = "the workspace itself, " + comes
		}
		if len(s.Ports) > 0 {
			comes += ", on " + strings.Join(s.Ports, ", ")
		}
		if len(s.DependsOn) > 0 {
			comes += ", after " + strings.Join(s.DependsOn, ", ")
		}
		add("service", "", "%s: %s", s.Name, comes)
	}
}

func (r *Report) describeOwn(add func(what, from, format string, args ...any)) {
	d := r.Domicile
	if d == nil {
		return
	}
	for _, c := range d.Checks {
		add("check", "", "%s", c.Name)
	}
	for _, t := range d.Tasks {
		add("task", "", "%s", strings.Join(nonEmpty(t.Name, t.Description), ": "))
	}
	switch d.IdleStop {
	case "":
	case "never":
		add("stops", "", "never by itself")
	default:
		add("stops", "", "by itself when unused for %s", d.IdleStop)
	}
	if d.Size != "" {
		add("size", "", "%s", d.Size)
	}
}

// asks lists what the definition wants of the host beyond a plain container.
func (r *Report) asks() (list []string) {
	e := r.Effective
	if e.Privileged {
		list = append(list, "all rights over the host (privileged)")
	}
	for _, c := range e.CapAdd {
		list = append(list, "the capability "+c)
	}
	for _, s := range e.SecurityOpt {
		list = append(list, "the security option "+s)
	}
	for _, m := range e.Mounts {
		if m.Type == "bind" {
			list = append(list, fmt.Sprintf("its folder %s at %s", m.Source, m.Target))
		}
	}
	if len(e.InitializeCommand) > 0 {
		list = append(list, "a command run on the host itself (initializeCommand)")
	}
	if len(e.RunArgs) > 0 {
		list = append(list, "engine settings: "+strings.Join(e.RunArgs, " "))
	}
	if h := e.HostRequirements; h != nil {
		var needs []string
		if h.CPUs > 0 {
			needs = append(needs, fmt.Sprintf("%d processors", h.CPUs))
		}
		if h.Memory != "" {
			needs = append(needs, h.Memory+" of memory")
		}
		if h.Storage != "" {
			needs = append(needs, h.Storage+" of disk")
		}
		if gpuRank(h.GPU) > 1 {
			needs = append(needs, "a graphics processor")
		}
		if len(needs) > 0 {
			list = append(list, strings.Join(needs, ", "))
		}
	}
	for _, s := range r.Services {
		for _, ask := range s.Asks {
			list = append(list, ask+" (service "+s.Name+")")
		}
	}
	return list
}

// words names a feature, its version, and the options that were chosen.
func (f Feature) words() string {
	name := f.Name
	if name == "" {
		name = f.ID
	}
	var chosen []string
	for _, option := range sortedNames(f.Options) {
		if value := fmt.Sprint(f.Options[option]); value != "" && value != "false" {
			chosen = append(chosen, option+" "+value)
		}
	}
	text := name
	if len(chosen) > 0 {
		text += " (" + strings.Join(chosen, ", ") + ")"
	}
	if f.Version != "" {
		text += ", feature " + f.Version
	}
	return text
}

// Words gives a command as a person would type it.
func (c Command) Words() string {
	parts, err := c.Parts()
	if err != nil {
		return string(c.Command)
	}
	var list []string
	for _, p := range parts {
		text := p.Shell
		if text == "" {
			text = strings.Join(p.Args, " ")
		}
		list = append(list, strings.Join(nonEmpty(p.Name, text), ": "))
	}
	return strings.Join(list, "; ")
}

// when says of a lifecycle stage when it runs.
func when(stage string) string {
	i := slices.Index(append([]string{"initializeCommand"}, Lifecycle...), stage)
	return [...]string{"on the host, before anything", "once, when it is made", "when it is made and when the content changed",
		"once, when it was given to a person", "at each start", "at each connection"}[i]
}

func nonEmpty(list ...string) (out []string) {
	for _, s := range list {
		if s != "" {
			out = append(out, s)
		}
	}
	return out
}
