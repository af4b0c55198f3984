// Package plan turns a definition into the ordered steps that make a workspace of it at a
// site. A plan is pure data: nothing is made, asked or looked up here, so that the same
// definition gives the same plan, and what a plan would do can be shown before it is done.
package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/fault"
)

// The steps of a plan, beside the lifecycle stages, which carry the standard's names.
const (
	StepFetch     = "fetch"     // bring the source to the service's host
	StepRead      = "read"      // read the definition
	StepPlan      = "plan"      // work out the rest
	StepImage     = "image"     // bring the image to the site
	StepVolume    = "volume"    // make the volume that holds the source
	StepContainer = "container" // make the container
	StepAgent     = "agent"     // start it, reach its agent, learn its environment
	StepSource    = "source"    // put the source in
	StepReady     = "ready"     // open the ways in
	StepStop      = "stop"
	StepRemove    = "remove"
)

// Step is one step of a plan.
type Step struct {
	Name  string `json:"name"`
	Title string `json:"title"` // for people
	// Digest is over all that goes into the step, what came before included. An equal
	// digest means that the step need not run again.
	Digest string `json:"digest,omitempty"`
	// Commands are the commands of a lifecycle stage, in order.
	Commands []definition.Command `json:"commands,omitempty"`
}

// Plan is how a workspace is made.
type Plan struct {
	Image     string    `json:"image"`
	Container Container `json:"container"`
	Session   Session   `json:"session"`
	Ports     []Port    `json:"ports"`
	Steps     []Step    `json:"steps"`
}

// Container is what the workspace's container is made from.
type Container struct {
	Image string            `json:"image"`
	User  string            `json:"user,omitempty"` // containerUser; empty: the image's
	Env   map[string]string `json:"env,omitempty"`  // containerEnv
	Init  bool              `json:"init,omitempty"`
	// Hostname is the workspace's name.
	Hostname string `json:"hostname"`
	// Override tells that the agent is the container's first process instead of the
	// image's own command (overrideCommand).
	Override bool `json:"override"`
	// SourceTarget is where the volume with the source is mounted.
	SourceTarget string `json:"sourceTarget"`
	// Digest is that of the container's step; the container carries it as a label.
	Digest string `json:"digest"`
}

// Session is how programs run inside for the person.
type Session struct {
	User   string             `json:"user,omitempty"` // remoteUser; empty: the container's
	Folder string             `json:"folder"`         // workspaceFolder
	Probe  string             `json:"probe"`          // userEnvProbe
	Env    map[string]*string `json:"env,omitempty"`  // remoteEnv, ${containerEnv:…} still in it
}

// Port is a port that the definition names, with what it says of it.
type Port struct {
	Port definition.Port `json:"port"`
	definition.PortAttributes
}

// First returns the steps that come before a definition is known.
func First(source, ref string) []Step {
	return []Step{
		{Name: StepFetch, Title: "Fetch the source", Digest: digest(StepFetch, source, ref)},
		{Name: StepRead, Title: "Read the definition"},
		{Name: StepPlan, Title: "Plan"},
	}
}

// Make plans a workspace from a definition that was read without errors. The error is a
// *fault.Fault that names what cannot be carried out.
func Make(r *definition.Report, name, commit string) (*Plan, error) {
	e := r.Effective
	if r.Kind != definition.KindImage {
		return nil, fault.New("kind-not-carried-out", "use a definition with image for now",
			"%s is of kind %s, which this version reads but does not carry out yet", r.File, r.Kind)
	}
	if len(r.Features) > 0 {
		return nil, fault.New("kind-not-carried-out", "use an image that has the features already", "%s asks for features, which this version reads but does not install yet", r.File)
	}
	target, err := sourceTarget(r)
	if err != nil {
		return nil, err
	}
	p := &Plan{
		Image: e.Image,
		Container: Container{Image: e.Image, Hostname: name, User: e.ContainerUser, Env: e.ContainerEnv, Init: e.Init,
			Override: *e.OverrideCommand, SourceTarget: target},
		Session: Session{User: e.RemoteUser, Folder: e.WorkspaceFolder, Probe: e.UserEnvProbe, Env: e.RemoteEnv},
		Ports:   []Port{},
	}
	if p.Session.User == "" {
		p.Session.User = e.ContainerUser
	}
	for _, port := range e.ForwardPorts {
		p.Ports = append(p.Ports, Port{port, e.Attributes(port)})
	}
	image := p.add("", Step{Name: StepImage, Title: "Pull the image " + e.Image}, e.Image)
	volume := p.add("", Step{Name: StepVolume, Title: "Make the volume"})
	p.Container.Digest = p.add(image+volume, Step{Name: StepContainer, Title: "Make the container"}, p.Container)
	agent := p.add(p.Container.Digest, Step{Name: StepAgent, Title: "Start the agent"}, p.Session)
	before := p.add(volume, Step{Name: StepSource, Title: "Put the source in"}, commit) + agent
	p.lifecycle(e, before)
	return p, nil
}

// taken are the folders of a container that are not the definition's to mount over.
var taken = []string{"/proc", "/sys", "/dev", "/opt/domicile", "/run/domicile"}

// sourceTarget is where the volume with the source is mounted: where workspaceMount says,
// or at the standard's default. A workspaceMount of anything else than the source itself
// would be a mount of the host's files.
func sourceTarget(r *definition.Report) (string, error) {
	target := definition.DefaultMount(r.LocalFolder)
	if m := r.Effective.WorkspaceMount; m != nil {
		if m.Type != "bind" || path.Clean(m.Source) != path.Clean(r.LocalFolder) {
			return "", fault.New("mount-refused", `mount the source itself: "source=${localWorkspaceFolder},target=…,type=bind"`,
				"%s: workspaceMount asks for %s %q, which is not the workspace's source", r.File, m.Type, m.Source)
		}
		target = m.Target
	}
	target = path.Clean(target)
	for _, t := range taken {
		if target == "/" || target == t || strings.HasPrefix(target, t+"/") {
			return "", fault.New("mount-refused", "choose another folder, such as /workspaces/name", "%s: the source cannot be mounted at %s", r.File, target)
		}
	}
	return target, nil
}

// lifecycle adds the stages in order and the ready step behind the one that waitFor names.
func (p *Plan) lifecycle(e *definition.Effective, before string) {
	ready := Step{Name: StepReady, Title: "Open the ways in"}
	if !slices.Contains(definition.Lifecycle, e.WaitFor) {
		p.Steps = append(p.Steps, ready)
	}
	for _, stage := range definition.Lifecycle {
		if commands := e.Stage(stage); len(commands) > 0 && stage != "postAttachCommand" {
			before = p.add(before, Step{Name: stage, Title: "Run " + stage, Commands: commands}, commands)
		}
		if stage == e.WaitFor {
			p.Steps = append(p.Steps, ready)
		}
	}
}

func (p *Plan) add(before string, s Step, inputs ...any) string {
	s.Digest = digest(append([]any{s.Name, before}, inputs...)...)
	p.Steps = append(p.Steps, s)
	return s.Digest
}

// Start returns the steps of a start of a workspace that was made by p.
func (p *Plan) Start() []Step {
	steps := []Step{{Name: StepAgent, Title: "Start the container"}}
	ready := Step{Name: StepReady, Title: "Open the ways in"}
	i := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Name == "postStartCommand" })
	if i < 0 {
		return append(steps, ready)
	}
	command := Step{Name: "postStartCommand", Title: p.Steps[i].Title, Commands: p.Steps[i].Commands}
	if slices.ContainsFunc(p.Steps[i:], func(s Step) bool { return s.Name == StepReady }) {
		return append(steps, command, ready) // waitFor names it
	}
	return append(steps, ready, command)
}

// Stop and Remove return the steps of these runs.
func Stop() []Step   { return []Step{{Name: StepStop, Title: "Stop the container"}} }
func Remove() []Step { return []Step{{Name: StepRemove, Title: "Remove all that was made"}} }

func digest(parts ...any) string {
	h := sha256.New()
	for _, part := range parts {
		b, err := json.Marshal(part)
		if err != nil { // only plain data is given
			panic(fmt.Sprintf("digest of %T: %v", part, err))
		}
		fmt.Fprintf(h, "%d\n%s\n", len(b), b)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}
