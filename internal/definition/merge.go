package definition

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// snippet is one source of properties: an entry of an image's metadata label, a
// feature's metadata, or the definition itself.
type snippet struct {
	from string // as Command.From
	Effective
	commands map[string]json.RawMessage
	domicile *Value // customizations.domicile, in the order of the text
}

// newSnippet types the properties that are checked already.
func newSnippet(from string, v *Value) (*snippet, error) {
	s := &snippet{from: from, commands: map[string]json.RawMessage{}}
	rest := &Value{Kind: Object}
	if own := v.Get("customizations").Get("domicile"); own != nil {
		s.domicile = own
	}
	for _, m := range v.Members {
		switch {
		case m.Name == "initializeCommand" || slices.Contains(Lifecycle, m.Name):
			if command := withoutEmpty(m.Value); command != nil {
				s.commands[m.Name] = compact(command)
			}
		case m.Name == "containerEnv" && m.Value.holdsOnly(String):
			s.ContainerEnv = make(map[string]string, len(m.Value.Members))
			for _, v := range m.Value.Members {
				s.ContainerEnv[v.Name] = v.Value.Str
			}
		case m.Name == "entrypoint" && m.Value.Kind == String:
			s.Entrypoint = []string{m.Value.Str}
		case m.Name == "workspaceMount" && m.Value.Kind == String && m.Value.Str == "":
			s.Nowhere = true
		case m.Name == "$schema":
		default:
			rest.Members = append(rest.Members, m)
		}
	}
	if err := json.Unmarshal(compact(exactly(rest, reflect.TypeFor[Effective]())), &s.Effective); err != nil {
		return nil, fmt.Errorf("read properties of %s: %w", from, err)
	}
	return s, nil
}

// withoutEmpty leaves commands out that run nothing: an empty text or list, and parts of an
// object that are so. nil: nothing is left.
func withoutEmpty(v *Value) *Value {
	switch {
	case v.Kind == String && strings.TrimSpace(v.Str) == "", v.Kind == Array && len(v.Items) == 0:
		return nil
	case v.Kind != Object:
		return v
	}
	left := *v
	left.Members = nil
	for _, m := range v.Members {
		if m.Value = withoutEmpty(m.Value); m.Value != nil {
			left.Members = append(left.Members, m)
		}
	}
	if len(left.Members) == 0 {
		return nil
	}
	return &left
}

// exactly leaves members out that differ from the properties of a type in their letters'
// size: the standard's names are exact, and encoding/json's are not.
func exactly(v *Value, t reflect.Type) *Value {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	out := *v
	switch {
	case t.Kind() == reflect.Struct && v.Kind == Object:
		if t != reflect.TypeFor[HostRequirements]() && reflect.PointerTo(t).Implements(reflect.TypeFor[json.Unmarshaler]()) {
			return v // it reads its names itself
		}
		out.Members = nil
		for _, m := range v.Members {
			for i := range t.NumField() {
				name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
				if t.Field(i).Anonymous {
					continue
				}
				if name == m.Name {
					m.Value = exactly(m.Value, t.Field(i).Type)
					out.Members = append(out.Members, m)
				}
			}
		}
	case t.Kind() == reflect.Slice && v.Kind == Array:
		out.Items = nil
		for _, item := range v.Items {
			out.Items = append(out.Items, exactly(item, t.Elem()))
		}
	case t.Kind() == reflect.Map && v.Kind == Object:
		out.Members = nil
		for _, m := range v.Members {
			m.Value = exactly(m.Value, t.Elem())
			out.Members = append(out.Members, m)
		}
	}
	return &out
}

// holdsOnly tells whether a value is an object whose values are all of one kind.
func (v *Value) holdsOnly(k Kind) bool {
	return v.Kind == Object && !slices.ContainsFunc(v.Members, func(m Member) bool { return m.Value.Kind != k })
}

// merge adds a snippet to what came before it (the standard's "Merge logic"), and notes of
// what it brought that it did.
func (e *Effective) merge(s *snippet, o origins) {
	// The largest of each.
	if h := s.HostRequirements; h != nil {
		if e.HostRequirements == nil {
			e.HostRequirements = &HostRequirements{}
		}
		e.HostRequirements.merge(h, s.from, o)
	}
	// True if any is.
	anyOf(&e.Init, s.Init, "init", s.from, o)
	anyOf(&e.Privileged, s.Privileged, "privileged", s.from, o)
	// Unions without duplicates.
	e.CapAdd = union(e.CapAdd, s.CapAdd, "capAdd", s.from, o)
	e.SecurityOpt = union(e.SecurityOpt, s.SecurityOpt, "securityOpt", s.from, o)
	e.ForwardPorts = unionPorts(e.ForwardPorts, s.ForwardPorts, s.from, o)
	// Lists of all.
	for _, line := range s.Entrypoint {
		e.Entrypoint = append(e.Entrypoint, line)
		o.noteFirst("entrypoint", line, s.from)
	}
	for _, m := range s.Mounts {
		e.Mounts = slices.DeleteFunc(e.Mounts, func(old Mount) bool { return old.Target == m.Target })
		e.Mounts = append(e.Mounts, m)
		o.note("mounts", m.Target, s.from)
	}
	for name, command := range s.commands {
		stage := e.stage(name)
		*stage = append(*stage, Command{From: s.from, Command: command})
	}
	// By variable, by port: the last wins.
	e.ContainerEnv = overlay(e.ContainerEnv, s.ContainerEnv, "containerEnv", s.from, o)
	e.RemoteEnv = overlay(e.RemoteEnv, s.RemoteEnv, "remoteEnv", s.from, o)
	e.PortsAttributes = overlay(e.PortsAttributes, s.PortsAttributes, "portsAttributes", s.from, o)
	e.Secrets = overlay(e.Secrets, s.Secrets, "secrets", s.from, o)
	if s.Customizations != nil {
		merged, _ := mergeDeep(anyMap(e.Customizations), s.Customizations).(map[string]any)
		e.Customizations = merged
		for name := range s.Customizations {
			o.note("customizations", name, s.from)
		}
	}
	// The last wins.
	last(&e.WaitFor, s.WaitFor, "waitFor", s.from, o)
	last(&e.ContainerUser, s.ContainerUser, "containerUser", s.from, o)
	last(&e.RemoteUser, s.RemoteUser, "remoteUser", s.from, o)
	last(&e.UserEnvProbe, s.UserEnvProbe, "userEnvProbe", s.from, o)
	last(&e.OverrideCommand, s.OverrideCommand, "overrideCommand", s.from, o)
	last(&e.ShutdownAction, s.ShutdownAction, "shutdownAction", s.from, o)
	last(&e.UpdateRemoteUserUID, s.UpdateRemoteUserUID, "updateRemoteUserUID", s.from, o)
	last(&e.OtherPortsAttributes, s.OtherPortsAttributes, "otherPortsAttributes", s.from, o)
	// Only a definition has these; a label cannot set them.
	if s.from != fromDefinition {
		return
	}
	e.Name, e.Image, e.Build = s.Name, s.Image, s.Build
	e.DockerComposeFile, e.Service, e.RunServices = s.DockerComposeFile, s.Service, s.RunServices
	e.WorkspaceFolder, e.WorkspaceMount, e.Nowhere = s.WorkspaceFolder, s.WorkspaceMount, s.Nowhere
	e.RunArgs, e.AppPort = s.RunArgs, s.AppPort
	e.Features, e.OverrideFeatureInstallOrder = s.Features, s.OverrideFeatureInstallOrder
	for _, name := range []string{"name", "image", "build", "dockerComposeFile", "service", "runServices", "workspaceMount", "runArgs", "appPort", "features", "overrideFeatureInstallOrder"} {
		o.note(name, "", s.from)
	}
	if s.WorkspaceFolder != "" {
		o.note("workspaceFolder", "", s.from)
	}
}

func (h *HostRequirements) merge(other *HostRequirements, from string, o origins) {
	h.CPUs = max(h.CPUs, other.CPUs)
	h.Memory = largerAmount(h.Memory, other.Memory)
	h.Storage = largerAmount(h.Storage, other.Storage)
	if gpuRank(other.GPU) >= gpuRank(h.GPU) {
		h.GPU = other.GPU
		o.note("hostRequirements", "gpu", from)
	}
	for name, brought := range map[string]bool{"cpus": h.CPUs == other.CPUs, "memory": h.Memory == other.Memory, "storage": h.Storage == other.Storage} {
		if brought {
			o.note("hostRequirements", name, from)
		}
	}
}

// gpuRank orders the forms of `gpu` by how much they ask for.
func gpuRank(gpu any) int {
	switch x := gpu.(type) {
	case string:
		return 1
	case bool:
		if x {
			return 2
		}
	case map[string]any:
		return 3
	}
	return 0
}

func anyOf(to *bool, value bool, property, from string, o origins) {
	if value {
		*to = true
		o.noteFirst(property, "", from)
	}
}

func last[T comparable](to *T, value T, property, from string, o origins) {
	var zero T
	if value != zero {
		*to = value
		o.note(property, "", from)
	}
}

func overlay[T any](base, over map[string]T, property, from string, o origins) map[string]T {
	if base == nil && over != nil {
		base = map[string]T{}
	}
	for k, v := range over {
		base[k] = v
		o.note(property, k, from)
	}
	return base
}

func union(a, b []string, property, from string, o origins) []string {
	for _, s := range b {
		if !slices.Contains(a, s) {
			a = append(a, s)
		}
		o.noteFirst(property, s, from)
	}
	return a
}

func unionPorts(a, b []Port, from string, o origins) []Port {
	for _, p := range b {
		if !slices.ContainsFunc(a, func(q Port) bool { return p.Same(q) }) {
			a = append(a, p)
		}
		o.noteFirst("forwardPorts", p.String(), from)
	}
	return a
}

func anyMap(m map[string]any) any {
	if m == nil {
		return nil
	}
	return m
}

// mergeDeep merges objects member by member, joins lists without duplicates, and takes
// the later of anything else.
func mergeDeep(a, b any) any {
	switch y := b.(type) {
	case map[string]any:
		x, ok := a.(map[string]any)
		if !ok {
			return y
		}
		out := make(map[string]any, len(x)+len(y))
		for k, v := range x {
			out[k] = v
		}
		for k, v := range y {
			if old, ok := out[k]; ok {
				v = mergeDeep(old, v)
			}
			out[k] = v
		}
		return out
	case []any:
		x, ok := a.([]any)
		if !ok {
			return y
		}
		out := slices.Clone(x)
		for _, v := range y {
			if !slices.ContainsFunc(out, func(o any) bool { return reflect.DeepEqual(o, v) }) {
				out = append(out, v)
			}
		}
		return out
	}
	return b
}
