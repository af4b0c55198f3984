package door

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/api/types/network"

	"domicile/internal/judge"
)

// refusal is a sentence that says what is not given, and what to do instead.
type refusal string

func (r refusal) Error() string { return string(r) }

func refuse(format string, args ...any) error { return refusal(fmt.Sprintf(format, args...)) }

// The settings of a container that give no power over the host. Everything else that is
// not at its zero value is refused by name.
var harmless = map[string]bool{
	"AutoRemove": true, "RestartPolicy": true, "ShmSize": true, "Tmpfs": true, "ExtraHosts": true, "DNS": true, "DNSOptions": true, "DNSSearch": true, "Init": true,
	"ReadonlyRootfs": true, "CapDrop": true, "ConsoleSize": true, "GroupAdd": true,
	"Memory": true, "MemoryReservation": true, "MemorySwap": true, "MemorySwappiness": true, "NanoCPUs": true, "CPUShares": true, "CPUPeriod": true, "CPUQuota": true, "CpusetCpus": true, "PidsLimit": true, "Ulimits": true,
	// These are judged one by one, not copied.
	"Binds": true, "Mounts": true, "NetworkMode": true, "LogConfig": true, "Resources": true,
}

// instead says what to do where something is refused.
var instead = map[string]string{
	"PortBindings": "nothing is published on the host: reach the helper by its name, and forward its port from the workspace", "PublishAllPorts": "nothing is published on the host: reach the helper by its name",
	"Privileged": "do without: it would own the host", "CapAdd": "do without more capabilities", "Devices": "devices are given to workspaces by policy, not through this door",
	"VolumesFrom": "name the volumes", "Links": "helpers reach each other by their names",
}

var volumeName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_.-]*$`)

// judged is a container that may be made, before it gets names and networks.
type judged struct {
	container.CreateRequest
	aliases []string
	joins   string // the container whose network it shares; empty: the helpers' network
}

// judge reads a request for a container and refuses what it may not have.
func (d *Door) judge(body []byte) (*judged, error) {
	var q container.CreateRequest
	if err := strictly(body, &q); err != nil {
		return nil, refuse("The request cannot be judged: %v.", err)
	}
	if q.Config == nil || q.Image == "" {
		return nil, refuse("The request names no image.")
	}
	if q.HostConfig == nil {
		q.HostConfig = &container.HostConfig{}
	}
	if err := onlyKnown(reflect.ValueOf(*q.Config)); err != nil {
		return nil, err
	}
	asked := *q.HostConfig
	if asked.MaskedPaths != nil || asked.ReadonlyPaths != nil {
		return nil, refuse("A helper may not see the system's hidden paths (MaskedPaths, ReadonlyPaths): leave them as they are.")
	}
	given := container.HostConfig{}
	if err := copyHarmless(reflect.ValueOf(asked), reflect.ValueOf(&given).Elem()); err != nil {
		return nil, err
	}
	if asked.LogConfig.Type != "" && asked.LogConfig.Type != "json-file" || len(asked.LogConfig.Config) > 0 {
		return nil, refuse("A helper's output is kept by the engine's own way alone: leave LogConfig out.")
	}
	var err error
	given.LogConfig = container.LogConfig{Type: "json-file", Config: map[string]string{"max-size": "10m", "max-file": "3"}}
	for _, name := range judge.Dropped {
		if !slices.Contains(given.CapDrop, name) {
			given.CapDrop = append(given.CapDrop, name)
		}
	}
	if given.Mounts, err = d.mounts(asked); err != nil {
		return nil, err
	}
	out := &judged{CreateRequest: container.CreateRequest{Config: q.Config, HostConfig: &given}}
	for name := range q.Labels {
		if strings.HasPrefix(strings.ToLower(name), "domicile") {
			return nil, refuse("The label %s is Domicile's own: choose another.", name)
		}
	}
	return out, d.network(asked.NetworkMode, q.NetworkingConfig, out)
}

// known are the settings of a container's own programs that a helper may have.
var knownConfig = []string{"Hostname", "Domainname", "User", "AttachStdin", "AttachStdout", "AttachStderr", "ExposedPorts", "Tty", "OpenStdin", "StdinOnce", "Env", "Cmd", "Healthcheck", "Image", "Volumes",
	"WorkingDir", "Entrypoint", "NetworkDisabled", "Labels", "StopSignal", "StopTimeout", "Shell"}

// onlyKnown refuses settings that nobody has decided about.
func onlyKnown(config reflect.Value) error {
	for i := range config.NumField() {
		if name := config.Type().Field(i).Name; !slices.Contains(knownConfig, name) && !isZero(config.Field(i)) {
			return refuse("The setting %s is not given through this door: leave it out.", name)
		}
	}
	return nil
}

// copyHarmless copies harmless settings, and refuses others that are not at their zero.
func copyHarmless(from, to reflect.Value) error {
	t := from.Type()
	for i := range t.NumField() {
		name := t.Field(i).Name
		if name == "Resources" {
			if err := copyHarmless(from.Field(i), to.Field(i)); err != nil {
				return err
			}
			continue
		}
		switch name {
		case "Binds", "Mounts", "NetworkMode", "LogConfig":
			continue
		}
		switch {
		case harmless[name]:
			to.Field(i).Set(from.Field(i))
		case !isZero(from.Field(i)):
			what := instead[name]
			if what == "" {
				what = "leave it out"
			}
			return refuse("HostConfig.%s is not given through this door: %s.", name, what)
		}
	}
	return nil
}

// isZero counts empty lists, and pointers to zero, as zero too.
func isZero(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Slice, reflect.Map:
		return v.Len() == 0
	case reflect.Pointer:
		return v.IsNil() || isZero(v.Elem())
	}
	return v.IsZero()
}

// mounts lets a helper have volumes of the workspace's own and memory, nothing of the host.
func (d *Door) mounts(asked container.HostConfig) (list []mount.Mount, err error) {
	for _, b := range asked.Binds {
		parts := strings.Split(b, ":")
		if len(parts) < 2 || len(parts) > 3 {
			return nil, refuse("The mount %q cannot be read: write volume:/path.", b)
		}
		m := mount.Mount{Type: mount.TypeVolume, Source: parts[0], Target: parts[1]}
		if len(parts) == 3 {
			for option := range strings.SplitSeq(parts[2], ",") {
				switch option {
				case "ro":
					m.ReadOnly = true
				case "rw", "z", "Z", "nocopy":
				default:
					return nil, refuse("The mount option %q is not given through this door: leave it out.", option)
				}
			}
		}
		if m, err = d.ownVolume(m); err != nil {
			return nil, err
		}
		list = append(list, m)
	}
	for _, m := range asked.Mounts {
		switch m.Type {
		case mount.TypeTmpfs:
			list = append(list, mount.Mount{Type: m.Type, Target: m.Target, TmpfsOptions: m.TmpfsOptions})
		case mount.TypeVolume:
			if m.VolumeOptions != nil && m.VolumeOptions.DriverConfig != nil && !isZero(reflect.ValueOf(*m.VolumeOptions.DriverConfig)) {
				return nil, refuse("A volume of a helper has no driver of its own: leave VolumeOptions.DriverConfig out.")
			}
			own, err := d.ownVolume(mount.Mount{Type: m.Type, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly})
			if err != nil {
				return nil, err
			}
			list = append(list, own)
		default:
			return nil, refuse("A mount of type %q (%s) would reach the host: use a volume, or the volume %q for the workspace's source.", m.Type, m.Source, SourceVolume)
		}
	}
	return list, nil
}

// SourceVolume is the name by which a helper mounts the workspace's source.
const SourceVolume = "source"

func (d *Door) ownVolume(m mount.Mount) (mount.Mount, error) {
	if m.Source != "" && !volumeName.MatchString(m.Source) {
		return m, refuse("The mount of %q would reach the host: use a volume, or the volume %q for the workspace's source.", m.Source, SourceVolume)
	}
	switch m.Source {
	case "":
	case SourceVolume:
		m.Source = d.Source
		return m, nil
	default:
		m.Source = d.volume(m.Source)
	}
	m.VolumeOptions = &mount.VolumeOptions{Labels: d.given()}
	return m, nil
}

func (d *Door) volume(name string) string { return d.Prefix + "v-" + name }

// network puts a helper on the helpers' network, on none, or into another helper's.
func (d *Door) network(mode container.NetworkMode, config *network.NetworkingConfig, out *judged) error {
	switch {
	case slices.Contains([]container.NetworkMode{"", "default", "bridge"}, mode):
		out.HostConfig.NetworkMode = ""
	case mode == "none":
		out.HostConfig.NetworkMode = mode
	case strings.HasPrefix(string(mode), "container:"):
		out.joins = strings.TrimPrefix(string(mode), "container:")
	default:
		return refuse("The network %q is not given through this door: helpers are on one network with their workspace.", mode)
	}
	if config == nil {
		return nil
	}
	for name, e := range config.EndpointsConfig {
		if !slices.Contains([]string{"default", "bridge", "none", string(mode)}, name) {
			return refuse("The network %q is not given through this door: helpers are on one network with their workspace.", name)
		}
		if e != nil {
			out.aliases = append(out.aliases, e.Aliases...)
		}
	}
	return nil
}
