package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"path"
	"strings"
)

// Effective is the merged configuration in the standard's property names, variables
// replaced (those that need a running container stay), defaults filled in.
type Effective struct {
	Name string `json:"name,omitempty"`

	Image string `json:"image,omitempty"`
	Build *Build `json:"build,omitempty"`

	DockerComposeFile Texts    `json:"dockerComposeFile,omitempty"` // relative to the repository
	Service           string   `json:"service,omitempty"`
	RunServices       []string `json:"runServices,omitempty"`

	WorkspaceFolder string         `json:"workspaceFolder"`
	WorkspaceMount  *Mount         `json:"workspaceMount,omitempty"`
	Nowhere         bool           `json:"-"` // workspaceMount is the empty text: the source is mounted nowhere
	RunArgs         []string       `json:"runArgs,omitempty"`
	AppPort         any            `json:"appPort,omitempty"`
	Features        map[string]any `json:"features,omitempty"` // as written

	OverrideFeatureInstallOrder []string `json:"overrideFeatureInstallOrder,omitempty"`

	ForwardPorts         []Port                    `json:"forwardPorts,omitempty"`
	PortsAttributes      map[string]PortAttributes `json:"portsAttributes,omitempty"`
	OtherPortsAttributes *PortAttributes           `json:"otherPortsAttributes,omitempty"`

	ContainerEnv        map[string]string  `json:"containerEnv,omitempty"`
	RemoteEnv           map[string]*string `json:"remoteEnv,omitempty"` // nil unsets
	ContainerUser       string             `json:"containerUser,omitempty"`
	RemoteUser          string             `json:"remoteUser,omitempty"`
	UpdateRemoteUserUID *bool              `json:"updateRemoteUserUID,omitempty"`
	UserEnvProbe        string             `json:"userEnvProbe,omitempty"`
	OverrideCommand     *bool              `json:"overrideCommand,omitempty"`
	ShutdownAction      string             `json:"shutdownAction,omitempty"`

	Init        bool     `json:"init,omitempty"`
	Privileged  bool     `json:"privileged,omitempty"`
	CapAdd      []string `json:"capAdd,omitempty"`
	SecurityOpt []string `json:"securityOpt,omitempty"`
	Mounts      []Mount  `json:"mounts,omitempty"`
	Entrypoint  []string `json:"entrypoint,omitempty"` // of image and features, in order

	Customizations   map[string]any    `json:"customizations,omitempty"`
	Secrets          map[string]any    `json:"secrets,omitempty"`
	HostRequirements *HostRequirements `json:"hostRequirements,omitempty"`

	InitializeCommand    []Command `json:"initializeCommand,omitempty"`
	OnCreateCommand      []Command `json:"onCreateCommand,omitempty"`
	UpdateContentCommand []Command `json:"updateContentCommand,omitempty"`
	PostCreateCommand    []Command `json:"postCreateCommand,omitempty"`
	PostStartCommand     []Command `json:"postStartCommand,omitempty"`
	PostAttachCommand    []Command `json:"postAttachCommand,omitempty"`
	WaitFor              string    `json:"waitFor,omitempty"`
}

// Build says how a Dockerfile becomes the image.
type Build struct {
	Dockerfile string            `json:"dockerfile"` // relative to the repository
	Context    string            `json:"context"`    // relative to the repository
	Args       map[string]string `json:"args,omitempty"`
	Options    []string          `json:"options,omitempty"`
	Target     string            `json:"target,omitempty"`
	CacheFrom  Texts             `json:"cacheFrom,omitempty"`
	// Inline is the Dockerfile's text where a Compose file has it in itself; Dockerfile is
	// then only what messages call it, and InlineLine the line of that file that it begins
	// behind.
	Inline     string `json:"inline,omitempty"`
	InlineFile string `json:"inlineFile,omitempty"`
	InlineLine int    `json:"inlineLine,omitempty"`
	// Contexts are folders of the repository, or images behind "docker-image://", that the
	// Dockerfile knows by these names beside its context.
	Contexts map[string]string `json:"contexts,omitempty"`
}

// ImageContext gives the image that one of Contexts stands for; false: it is a folder.
func ImageContext(of string) (image string, is bool) { return strings.CutPrefix(of, "docker-image://") }

// Texts is a list of strings that may be written as one string.
type Texts []string

// UnmarshalJSON reads both forms.
func (t *Texts) UnmarshalJSON(b []byte) error {
	var s string
	if json.Unmarshal(b, &s) == nil {
		*t = Texts{s}
		return nil
	}
	return json.Unmarshal(b, (*[]string)(t))
}

// Command is one lifecycle command with where it came from.
type Command struct {
	From    string          `json:"from"` // "image", a feature's reference, or "definition"
	Command json.RawMessage `json:"command"`
}

// Part is one of the commands that a stage runs at the same time.
type Part struct {
	Name  string   // empty where the stage has but one
	Shell string   // run through a shell; empty: Args
	Args  []string // run without a shell
}

// Parts takes the three forms of a command apart: a string, a list, an object of these
// (the standard's "Lifecycle"). The parts of an object come in the order of the text.
func (c Command) Parts() ([]Part, error) {
	t, err := ParseText("", c.Command)
	if err != nil {
		return nil, fmt.Errorf("read lifecycle command: %w", err)
	}
	if t.Root.Kind != Object {
		p, err := part("", t.Root)
		return []Part{p}, err
	}
	var parts []Part
	for _, m := range t.Root.Members {
		p, err := part(m.Name, m.Value)
		if err != nil {
			return nil, err
		}
		parts = append(parts, p)
	}
	return parts, nil
}

func part(name string, v *Value) (Part, error) {
	switch v.Kind {
	case String:
		return Part{Name: name, Shell: v.Str}, nil
	case Array:
		p := Part{Name: name}
		for _, item := range v.Items {
			p.Args = append(p.Args, item.Str)
		}
		return p, nil
	}
	return Part{}, fmt.Errorf("lifecycle command is %s, not a string or a list", v.Kind)
}

// Stage returns the commands of a lifecycle stage by its property name.
func (e *Effective) Stage(name string) []Command {
	if p := e.stage(name); p != nil {
		return *p
	}
	return nil
}

func (e *Effective) stage(name string) *[]Command {
	switch name {
	case "initializeCommand":
		return &e.InitializeCommand
	case "onCreateCommand":
		return &e.OnCreateCommand
	case "updateContentCommand":
		return &e.UpdateContentCommand
	case "postCreateCommand":
		return &e.PostCreateCommand
	case "postStartCommand":
		return &e.PostStartCommand
	case "postAttachCommand":
		return &e.PostAttachCommand
	}
	return nil
}

// Attributes returns what the definition says of a port: its own entry, that of a range
// it lies in, or that for all others. Entries by the command line of what listens count
// only once something does.
func (e *Effective) Attributes(p Port) PortAttributes {
	return e.PortRules().Of(p, "")
}

// PortRules are what the definition says of all ports.
func (e *Effective) PortRules() PortRules {
	return PortRules{Named: e.PortsAttributes, Others: e.OtherPortsAttributes}
}

// fillDefaults fills in what the standard says where a definition is silent.
func (e *Effective) fillDefaults(kind string) {
	compose := kind == KindCompose
	if e.OverrideCommand == nil {
		e.OverrideCommand = new(!compose)
	}
	if e.UpdateRemoteUserUID == nil {
		e.UpdateRemoteUserUID = new(true)
	}
	if e.ShutdownAction == "" {
		e.ShutdownAction = "stopContainer"
		if compose {
			e.ShutdownAction = "stopCompose"
		}
	}
	if e.UserEnvProbe == "" {
		e.UserEnvProbe = "loginInteractiveShell"
	}
	if e.WaitFor == "" {
		e.WaitFor = "updateContentCommand"
	}
	if user := userOf(e.RunArgs); user != "" && !compose {
		e.ContainerUser = user
	}
}

// userOf is the user that engine flags name, the last one; empty: none does. An engine takes
// it in place of the image's and of containerUser.
func userOf(runArgs []string) (user string) {
	for i := 0; i < len(runArgs); i++ {
		name, value, has := strings.Cut(runArgs[i], "=")
		switch {
		case name == "-u" || name == "--user":
			if i+1 < len(runArgs) && !has {
				i++
				value = runArgs[i]
			}
			user = value
		case strings.HasPrefix(name, "-u"):
			user = strings.TrimPrefix(runArgs[i], "-u")
		}
	}
	return user
}

// defaultFolder is workspaceFolder where the definition does not name one.
func defaultFolder(kind, localFolder string) string {
	if kind == KindCompose {
		return "/"
	}
	return DefaultMount(localFolder)
}

// DefaultMount is where the source is mounted without a workspaceMount.
func DefaultMount(localFolder string) string {
	return path.Join("/workspaces", path.Base(localFolder))
}

// Compact gives a value as JSON on one line.
func (v *Value) Compact() string { return string(compact(v)) }

// compact gives a value as JSON without the text's comments and spacing, members in order.
func compact(v *Value) json.RawMessage {
	var b bytes.Buffer
	writeCompact(&b, v)
	return b.Bytes()
}

func writeCompact(b *bytes.Buffer, v *Value) {
	switch v.Kind {
	case Array:
		b.WriteByte('[')
		for i, item := range v.Items {
			if i > 0 {
				b.WriteByte(',')
			}
			writeCompact(b, item)
		}
		b.WriteByte(']')
	case Object:
		b.WriteByte('{')
		for i, m := range v.Members {
			if i > 0 {
				b.WriteByte(',')
			}
			writeString(b, m.Name)
			b.WriteByte(':')
			writeCompact(b, m.Value)
		}
		b.WriteByte('}')
	case String:
		writeString(b, v.Str)
	case Null:
		b.WriteString("null")
	default:
		b.WriteString(v.Raw)
	}
}

func writeString(b *bytes.Buffer, s string) {
	if plain(s) {
		b.WriteByte('"')
		b.WriteString(s)
		b.WriteByte('"')
		return
	}
	e := json.NewEncoder(b)
	e.SetEscapeHTML(false)
	_ = e.Encode(s) // a string always encodes into memory
	b.Truncate(b.Len() - 1)
}
