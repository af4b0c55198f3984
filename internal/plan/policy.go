package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/fault"
)

// The things that a definition may ask of a host and that policy decides about.
const (
	AllowPrivileged      = "privileged"
	AllowCapabilities    = "capabilities"
	AllowSecurityOptions = "security-options"
	AllowHostMounts      = "host-mounts"
	AllowDevices         = "devices"
	AllowHostSpaces      = "host-spaces" // the host's network, processes, ipc, users
	AllowHostCommands    = "host-commands"
	AllowBuildSecrets    = "build-secrets"
)

// Allowances lists all that can be allowed.
var Allowances = []string{AllowPrivileged, AllowCapabilities, AllowSecurityOptions, AllowHostMounts, AllowDevices, AllowHostSpaces, AllowHostCommands, AllowBuildSecrets}

// Policy is what an administrator allows definitions to ask for. The zero Policy allows
// only what gives no power over the host.
type Policy []string

// harmless are the capabilities that reach nothing beyond the container: those that the
// engine gives anyway, and the one that debuggers need.
var harmless = []string{"SYS_PTRACE", "AUDIT_WRITE", "CHOWN", "DAC_OVERRIDE", "FOWNER", "FSETID", "KILL", "MKNOD", "NET_BIND_SERVICE", "NET_RAW", "SETFCAP", "SETGID", "SETPCAP", "SETUID", "SYS_CHROOT"}

// refuser refuses what the policy does not allow, with the property and its line.
type refuser struct {
	policy Policy
	report *definition.Report
	list   Refusals
}

// Refusals are all that a definition asks for and does not get.
type Refusals []*fault.Fault

// Error names them one a line.
func (r Refusals) Error() string {
	lines := make([]string, len(r))
	for i, f := range r {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// Unwrap gives the first one's code and remedy to those who look for them.
func (r Refusals) Unwrap() error { return r[0] }

// add keeps a refusal, once.
func (r *refuser) add(f *fault.Fault) {
	if !slices.ContainsFunc(r.list, func(o *fault.Fault) bool { return o.Message == f.Message }) {
		r.list = append(r.list, f)
	}
}

// place names where a property is written, or where it comes from.
func (r *refuser) place(pointer string) string {
	if r.report.Text != nil {
		v := r.report.Text.Root
		for _, name := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
			next := v.Get(name)
			if v.Kind == definition.Array {
				var i int
				if _, err := fmt.Sscan(name, &i); err == nil && i < len(v.Items) {
					next = v.Items[i]
				}
			}
			if next == nil {
				break
			}
			v = next
		}
		if v != r.report.Text.Root {
			return fmt.Sprintf("%s:%d", r.report.File, r.report.Text.Position(v.Offset).Line)
		}
	}
	if from := r.report.FindOrigins()[pointer]; from != "" {
		return "from " + from
	}
	return r.report.File
}

func (r *refuser) allows(allowance string) bool { return slices.Contains(r.policy, allowance) }

// need refuses unless the policy allows it.
func (r *refuser) need(allowance, place, what string, args ...any) {
	if r.allows(allowance) {
		return
	}
	r.add(fault.New("not-allowed-here", "take it out of the definition, or ask an administrator to allow "+allowance+" (domicile serve -allow "+allowance+")",
		"%s: %s, which this site does not allow", place, fmt.Sprintf(what, args...)))
}

func (r *refuser) refuse(place, what string, args ...any) {
	r.add(fault.New("not-carried-out", "take it out of the definition", "%s: %s", place, fmt.Sprintf(what, args...)))
}

func (r *refuser) capability(name, place string) {
	plain := strings.TrimPrefix(strings.ToUpper(name), "CAP_")
	if !slices.Contains(harmless, plain) {
		r.need(AllowCapabilities, place, "it asks for the capability %s", plain)
	}
}

func (r *refuser) securityOption(option, place string) {
	if option != "no-new-privileges" && option != "no-new-privileges:true" && option != "no-new-privileges=true" {
		r.need(AllowSecurityOptions, place, "it asks for the security option %s", option)
	}
}

// mount judges a mount and gives it as the site makes it.
func (r *refuser) mount(m definition.Mount, place string) (Mount, bool) {
	target := path.Clean(m.Target)
	if !path.IsAbs(target) || isTaken(target) {
		r.refuse(place, "nothing can be mounted at %s", m.Target)
		return Mount{}, false
	}
	out := Mount{Type: m.Type, Source: m.Source, Target: target, ReadOnly: m.ReadOnly}
	switch m.Type {
	case "bind":
		r.need(AllowHostMounts, place, "it asks for %s of the host", described(m.Source))
	case "volume":
		if strings.ContainsAny(m.Source, "/\\") || strings.HasPrefix(m.Source, ".") { // an engine takes a path here for a folder of the host
			r.need(AllowHostMounts, place, "it asks for %s of the host as a volume", described(m.Source))
			out.Type = "bind"
		}
	case "tmpfs":
		out.Source = ""
	default:
		r.refuse(place, "a mount of type %s is not carried out", m.Type)
		return Mount{}, false
	}
	return out, true
}

// described names a source; the engine's socket gets its own word, as whoever has it owns
// the host.
func described(source string) string {
	if strings.HasSuffix(source, ".sock") {
		return "the socket " + source
	}
	return "the folder " + source
}

func isTaken(target string) bool {
	return target == "/" || slices.ContainsFunc(taken, func(t string) bool { return target == t || strings.HasPrefix(target, t+"/") })
}
