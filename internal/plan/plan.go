// Package plan turns a definition into the ordered steps that make a workspace of it at a
// site. A plan is pure data: nothing is made, asked or looked up here, so that the same
// definition gives the same plan, and what a plan would do can be shown before it is done.
package plan

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/recipe"
)

// The steps of a plan, beside the lifecycle stages, which carry the standard's names.
const (
	StepFetch        = "fetch"             // bring the source to the service's host
	StepRead         = "read"              // read the definition
	StepPlan         = "plan"              // work out the rest
	StepImage        = "image"             // bring the image to the site
	StepVolume       = "volume"            // make the volume that holds the source
	StepServices     = "services"          // make and start the services beside the workspace
	StepLateServices = "late"              // and those that need the source
	StepPersonal     = "personal"          // put the person's own settings in
	StepChecks       = "checks"            // prove what the definition says must hold
	StepContainer    = "container"         // make the container
	StepAgent        = "agent"             // start it, reach its agent, learn its environment
	StepSource       = "source"            // put the source in
	StepReady        = "ready"             // open the ways in
	StepHost         = "initializeCommand" // run it on the host, where policy allows
	StepJoin         = "join"              // of a helper: put it on its workspace's network
	StepKeep         = "keep"              // keep it warm
	StepTake         = "take"              // take over what was kept warm
	StepSave         = "save"              // keep the snapshot
	StepClean        = "clean"             // remove what the snapshot was prepared in
	StepStop         = "stop"
	StepRemove       = "remove"
	StepSetAside     = "set-aside"  // in a rebuild: keep what is replaced
	StepCarryOver    = "carry-over" // bring over from it what shells remember
	StepDropAside    = "drop-aside" // remove it, when the new works
	StepPutBack      = "put-back"   // or put it back, when the new does not
	StepCarry        = "carry"      // in a move: bring what was kept of it to the other site
	StepGo           = "go"         // from here on it is there
	StepLeave        = "leave"      // remove what is left where it was
	StepCopy         = "copy"       // bring a copy of what was kept to another site
	StepAnew         = "anew"       // from here on it is there, and what it was is left
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
	Image string `json:"image"` // to pull, by digest where it is known; empty where Recipe is set
	// ImageName is the image as the definition names it.
	ImageName string `json:"imageName,omitempty"`
	// Size is the size it has at its site; the zero Size is none.
	Size Size `json:"size,omitzero"`
	// Granted tells, in words, what is allowed because the workspace has a machine of its own.
	Granted []string `json:"granted,omitempty"`
	// Definition is the file of the repository that it is made from.
	Definition string `json:"definition,omitempty"`
	// Variations are what is set in it in place of what the file says.
	Variations []definition.Variation `json:"variations,omitempty"`
	// Recipe is how the image is built.
	Recipe *recipe.Recipe `json:"recipe,omitempty"`
	// Services are the services beside the workspace, those that others wait for first.
	Services  []Service            `json:"services,omitempty"`
	Networks  []Network            `json:"networks,omitempty"`
	Shutdown  string               `json:"shutdown,omitempty"` // shutdownAction
	Domicile  *definition.Domicile `json:"domicile,omitempty"`
	Container Container            `json:"container"`
	// Attached are the commands of postAttachCommand.
	Attached []definition.Command `json:"attached,omitempty"`
	// Secrets are the names of the secrets that the definition wants, in order.
	Secrets []string `json:"secrets,omitempty"`
	Session Session  `json:"session"`
	Ports   []Port   `json:"ports"`
	// PortRules say what other ports are, once a program listens there.
	PortRules definition.PortRules `json:"portRules,omitzero"`
	Steps     []Step               `json:"steps"`
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
	// Entrypoints run at each start, before the first process.
	Entrypoints []string `json:"entrypoints,omitempty"`
	// LeastMemory is what the definition needs (hostRequirements), in bytes: where nothing is
	// asked for, a site gives its share, and this at least.
	LeastMemory int64 `json:"leastMemory,omitempty"`
	// SourceTarget is where the volume with the source is mounted; empty: nowhere.
	SourceTarget string `json:"sourceTarget"`
	// SourceFolder is a folder of the host that is mounted there instead of a volume.
	SourceFolder string `json:"sourceFolder,omitempty"`
	// SourceOf is another workspace of the site whose source is mounted; empty: its own.
	SourceOf string `json:"sourceOf,omitempty"`
	// HelperOf is the workspace that it is a helper of: it is on that one's network alone, and
	// its agent serves it.
	HelperOf string `json:"beside,omitempty"`
	// Door tells that it gets the narrow door to the site's engine.
	Door bool `json:"door,omitempty"`
	// Screen is the size of its machine's screen in pixels, such as 1280x800; empty: it has none.
	Screen string `json:"screen,omitempty"`
	// Saved is an image with the snapshot that the container begins with, in place of Image.
	// It does not count for the digest: a snapshot is one of the same container.
	Saved string `json:"saved,omitempty"`
	// Prepared tells that Saved is what many begin with: a place may keep it ready. It does not
	// count for the digest.
	Prepared bool `json:"prepared,omitempty"`

	Settings
	// Service is what the Compose files say of the workspace's own service.
	Service *Service `json:"service,omitempty"`
	// Digest is that of the container's step; the container carries it as a label.
	Digest string `json:"digest"`
	// Places tells where its settings are written. It does not count for the digest.
	Places Places `json:"places,omitempty"`
}

// Settings are what containers of all kinds may be given.
type Settings struct {
	Mounts      []Mount  `json:"mounts,omitempty"`
	Privileged  bool     `json:"privileged,omitempty"`
	CapAdd      []string `json:"capAdd,omitempty"`
	CapDrop     []string `json:"capDrop,omitempty"`
	SecurityOpt []string `json:"securityOpt,omitempty"`
	Devices     []string `json:"devices,omitempty"` // host[:container[:permissions]]
	GPUs        string   `json:"gpus,omitempty"`
	Network     string   `json:"network,omitempty"` // empty: the workspaces' own
	// NetworkOf is the service whose network it is on, or judge.WorkspaceItself.
	NetworkOf    string            `json:"networkOf,omitempty"`
	Spaces       map[string]string `json:"spaces,omitempty"` // pid, ipc, uts, userns, cgroupns
	SharedMemory int64             `json:"sharedMemory,omitempty"`
	Memory       int64             `json:"memory,omitempty"` // bytes
	CPUs         float64           `json:"cpus,omitempty"`
	Processes    int64             `json:"processes,omitempty"` // how many it may have
	Hosts        []string          `json:"hosts,omitempty"`     // name:address
	DNS          []string          `json:"dns,omitempty"`
	DNSSearch    []string          `json:"dnsSearch,omitempty"`
	Groups       []string          `json:"groups,omitempty"`
	Ulimits      []string          `json:"ulimits,omitempty"` // name=soft[:hard]
	Sysctls      map[string]string `json:"sysctls,omitempty"`
	ReadOnly     bool              `json:"readOnly,omitempty"`
}

// Mount is one mount of a container.
type Mount struct {
	Type     string `json:"type"` // bind, volume, tmpfs, source, file or folder
	Source   string `json:"source,omitempty"`
	Target   string `json:"target"`
	ReadOnly bool   `json:"readonly,omitempty"`
	Size     int64  `json:"size,omitempty"` // of a tmpfs, in bytes; 0: half of the memory
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
	// From is who names it: definition, image, or a feature by its reference.
	From string `json:"from,omitempty"`
}

// First returns the steps that come before a definition is known.
func First(source, ref string) []Step {
	return []Step{
		{Name: StepFetch, Title: "Fetch the source", Digest: digest(StepFetch, source, ref)},
		{Name: StepRead, Title: "Read the definition"},
		{Name: StepPlan, Title: "Plan"},
	}
}

// Input is what a plan is made from beside the definition.
type Input struct {
	Name   string // of the workspace
	Commit string
	// Personal is the source of the person's own settings; empty: none.
	Personal string
	Policy   judge.Policy
	// Given is what is allowed beyond the policy because the workspace has a machine of its own.
	Given judge.Policy
	// Mount is the folder of the host that is mounted as the source; nil: a clone.
	Mount *Folder
	// Size limits what the workspace may use; the zero Size does not.
	Size Size
	// Host is what the site has.
	Host Host
	// Account is whose secrets a build may use: such an image is that account's alone.
	Account int64
	// Services are those of the Compose files; nil for other kinds.
	Services *Services
	// Variations are what was set in the definition in place of what the file says.
	Variations []definition.Variation
}

// Folder is a folder of the host, and who owns it.
type Folder struct {
	Path     string
	UID, GID int
}

// Make plans a workspace from a definition that was read without errors. The error
// is a *fault.Fault, or judge.Refusals that name all that is not allowed or not carried out.
func Make(r *definition.Report, in Input) (*Plan, error) {
	e := r.Effective
	refuse := &written{report: r, Judge: judge.New(subject(in))}
	made, err := recipe.Make(r)
	if err != nil {
		place := refuse.place("/build")
		var option *recipe.ErrOption
		if errors.As(err, &option) && e.Build != nil {
			word, _, _ := strings.Cut(option.Option, " ")
			word, _, _ = strings.Cut(word, "=")
			if i := slices.IndexFunc(e.Build.Options, func(o string) bool { return o == word || strings.HasPrefix(o, word+"=") }); i >= 0 {
				place = refuse.place(fmt.Sprintf("/build/options/%d", i))
			}
		}
		return nil, fault.Wrap(err, "not-carried-out", "take it out of the definition", "%s: the image cannot be built", place)
	}
	p := &Plan{Domicile: r.Domicile, Shutdown: e.ShutdownAction,
		Container:  Container{Hostname: in.Name, User: e.ContainerUser, Env: ownEnv(r), Init: e.Init, Override: *e.OverrideCommand, Entrypoints: e.Entrypoint},
		Session:    Session{User: e.RemoteUser, Folder: e.WorkspaceFolder, Probe: e.UserEnvProbe, Env: e.RemoteEnv},
		Ports:      []Port{},
		Definition: r.File, Size: in.Size, Variations: in.Variations,
	}
	made = userUpdate(r, in.Mount, made)
	p.Container.places(r, refuse)
	if made != nil && made.OwnersAlone() {
		made = made.For(in.Account)
	}
	p.Recipe = made
	p.Attached = e.PostAttachCommand
	p.Secrets = slices.Sorted(maps.Keys(e.Secrets))
	p.ImageName = imageOf(r)
	p.Image = pinnedImage(r, p.ImageName)
	p.Container.Image = p.Image
	if made != nil {
		p.Image, p.ImageName, p.Container.Image = "", "", made.Tag()
	}
	p.Container.settings(e, refuse)
	p.Container.Places.note("WorkspaceFolder", "", refuse.place("/workspaceFolder"))
	p.needs(e, in.Host, refuse)
	if p.Container.SourceTarget, err = sourceTarget(r, refuse); err != nil {
		var wrong *fault.Fault
		if !errors.As(err, &wrong) {
			return nil, err
		}
		refuse.Add(wrong) // with all that is wrong beside
		p.Container.SourceTarget = definition.DefaultMount(r.LocalFolder)
	}
	if r.Kind == definition.KindCompose {
		p.compose(r, in.Services, refuse)
	}
	if len(e.InitializeCommand) > 0 {
		refuse.Need(judge.AllowHostCommands, refuse.place("/initializeCommand"), "initializeCommand runs a command on the host itself")
	}
	p.able(in.Host, in.Mount != nil, refuse)
	p.haveDevices(in.Host, refuse)
	p.runs(in.Host, r, refuse)
	p.Container.parts(refuse)
	p.mount(in.Mount)
	if err := p.limit(in.Size, e.HostRequirements, r.File); err != nil {
		return nil, err
	}
	if p.Domicile != nil && p.Domicile.Engine {
		p.openDoor()
	}
	if p.Domicile != nil {
		p.Container.Screen = p.Domicile.Screen
	}
	p.judge(refuse.Judge)
	judgeImages(r, refuse)
	if err := refuse.Err(); err != nil {
		return nil, err
	}
	p.Granted = refuse.Granted
	if p.Session.User == "" { // who the container runs as, whoever said so
		p.Session.User = p.Container.User
	}
	for i, port := range e.ForwardPorts {
		p.addPort(port, e, r.Origins[fmt.Sprintf("/forwardPorts/%d", i)])
	}
	for _, port := range appPorts(e) {
		p.addPort(port, e, r.Origins["/appPort"])
	}
	p.PortRules = e.PortRules()
	p.steps(e, in)
	return p, nil
}

func (p *Plan) addPort(port definition.Port, e *definition.Effective, from string) {
	if !slices.ContainsFunc(p.Ports, func(q Port) bool { return q.Port.Same(port) }) {
		p.Ports = append(p.Ports, Port{Port: port, PortAttributes: e.Attributes(port), From: from})
	}
}

// settings takes what the definition asks for the container, with the places where it is
// written. It is judged with all the rest.
func (c *Container) settings(e *definition.Effective, r *written) {
	c.Privileged = e.Privileged
	c.Places.note("Privileged", "", r.place("/privileged"))
	for i, name := range e.CapAdd {
		c.CapAdd = append(c.CapAdd, name)
		c.Places.note("CapAdd", name, r.place(fmt.Sprintf("/capAdd/%d", i)))
	}
	for i, option := range e.SecurityOpt {
		c.SecurityOpt = append(c.SecurityOpt, option)
		c.Places.note("SecurityOpt", option, r.place(fmt.Sprintf("/securityOpt/%d", i)))
	}
	for i, m := range e.Mounts {
		c.mount(m, r.place(fmt.Sprintf("/mounts/%d", i)), r.report)
	}
	c.runArgs(e.RunArgs, r)
}

// places notes where the properties of the definition stand that go into the container.
func (c *Container) places(r *definition.Report, w *written) {
	c.Places.note("", "", r.File)
	for field, property := range map[string]string{"User": "/containerUser", "RemoteUser": "/remoteUser", "SourceTarget": "/workspaceMount", "Image": "/image", "Dockerfile": "/build", "Entrypoints": "/features"} {
		c.Places.note(field, "", w.place(property))
	}
	for name := range r.Effective.ContainerEnv {
		c.Places.note("Env", name, w.place("/containerEnv/"+name))
	}
}

// subject is for whom a plan is made.
func subject(in Input) judge.Subject {
	s := judge.Subject{Account: in.Account, Policy: in.Policy, Given: in.Given, Memory: cmp.Or(in.Size.Memory, in.Host.Memory)}
	if in.Mount != nil {
		s.Folder = in.Mount.Path
	}
	return s
}

// judgeImages judges every image that the definition, its Dockerfiles and Compose files
// name, at its line.
func judgeImages(r *definition.Report, w *written) {
	for _, i := range r.Images {
		place := r.File
		if i.File != "" {
			place = fmt.Sprintf("%s:%d", i.File, max(i.Line, 1))
		}
		w.Pulled(place, i.Reference)
	}
}

// lifecycle adds the stages in order and the ready step behind the one that waitFor names.
// Only updateContentCommand runs again for another content.
func (p *Plan) lifecycle(e *definition.Effective, before, content string) {
	ready := Step{Name: StepReady, Title: "Open the ways in"}
	if !slices.Contains(definition.Lifecycle, e.WaitFor) {
		p.Steps = append(p.Steps, ready)
	}
	for _, stage := range definition.Lifecycle {
		if commands := e.Stage(stage); len(commands) > 0 && stage != "postAttachCommand" {
			of := before
			if stage == "updateContentCommand" {
				of += content
			}
			p.add(of, Step{Name: stage, Title: "Run " + stage, Commands: commands}, commands)
			before = digest(stage, before, commands)
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
