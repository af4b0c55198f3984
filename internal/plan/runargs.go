package plan

import (
	"math"
	"strconv"
	"strings"

	"domicile/internal/definition"
)

// runArgs maps the engine flags of a definition one by one to settings of the container.
// What has no equivalent is refused by name: it is neither passed on nor dropped.
func (c *Container) runArgs(args []string, r *refuser) {
	for i := 0; i < len(args); i++ {
		place := r.place("/runArgs/" + strconv.Itoa(i))
		name, value, has := strings.Cut(args[i], "=")
		if !strings.HasPrefix(name, "-") {
			r.refuse(place, "runArgs: %q belongs to no flag", args[i])
			continue
		}
		if short, known := shortFlags[name]; known {
			name = short
		} else if len(name) > 2 && name[1] != '-' && shortFlags[name[:2]] != "" && !has { // -v/a:/b
			name, value, has = shortFlags[name[:2]], name[2:], true
		}
		if !has && !plainFlags[name] {
			i++
			if i == len(args) {
				r.refuse(place, "runArgs: %s has no value", name)
				return
			}
			value = args[i]
		}
		c.runArg(name, value, place, r)
	}
}

var shortFlags = map[string]string{"-v": "--volume", "-e": "--env", "-p": "--publish", "-u": "--user", "-h": "--hostname", "-m": "--memory", "-l": "--label", "-w": "--workdir", "-c": "--cpu-shares", "-P": "--publish-all"}

var plainFlags = map[string]bool{"--privileged": true, "--init": true, "--rm": true, "-it": true, "-i": true, "-t": true, "-d": true, "--interactive": true, "--tty": true, "--detach": true, "--read-only": true, "--publish-all": true}

func (c *Container) runArg(name, value, place string, r *refuser) {
	switch name {
	case "--cap-add":
		r.capability(value, place)
		c.CapAdd = append(c.CapAdd, value)
	case "--cap-drop":
		c.CapDrop = append(c.CapDrop, value)
	case "--security-opt":
		r.securityOption(value, place)
		c.SecurityOpt = append(c.SecurityOpt, value)
	case "--privileged":
		if value != "false" {
			r.need(AllowPrivileged, place, "it asks to be privileged")
			c.Privileged = true
		}
	case "--init":
		c.Init = value != "false"
	case "--read-only":
		c.ReadOnly = value != "false"
	case "--env":
		if k, v, found := strings.Cut(value, "="); found {
			if c.Env == nil {
				c.Env = map[string]string{}
			}
			c.Env[k] = v
		}
	case "--hostname":
		c.Hostname = value
	case "--user":
		c.User = value
	case "--shm-size":
		c.SharedMemory = c.amount(name, value, place, r)
	case "--memory":
		c.Memory = c.amount(name, value, place, r)
	case "--cpus":
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || n <= 0 || n > 4096 {
			r.refuse(place, "runArgs: --cpus %q is no number of processors", value)
			return
		}
		c.CPUs = n
	case "--add-host":
		c.Hosts = append(c.Hosts, value)
	case "--dns":
		c.DNS = append(c.DNS, value)
	case "--group-add":
		c.Groups = append(c.Groups, value)
	case "--ulimit":
		c.Ulimits = append(c.Ulimits, value)
	case "--sysctl":
		if !strings.HasPrefix(value, "net.") && !strings.HasPrefix(value, "kernel.shm") && !strings.HasPrefix(value, "kernel.msg") && !strings.HasPrefix(value, "kernel.sem") {
			r.refuse(place, "runArgs: --sysctl %s belongs to the whole host", value)
			return
		}
		if c.Sysctls == nil {
			c.Sysctls = map[string]string{}
		}
		k, v, _ := strings.Cut(value, "=")
		c.Sysctls[k] = v
	case "--tmpfs":
		target, _, _ := strings.Cut(value, ":")
		c.mount(definition.Mount{Type: "tmpfs", Target: target}, place, r)
	case "--mount":
		m, err := definition.ParseMount(value)
		if err != nil {
			r.refuse(place, "runArgs: --mount %s: %v", value, err)
			return
		}
		c.mount(m, place, r)
	case "--volume":
		c.volume(value, place, r)
	case "--device":
		r.need(AllowDevices, place, "it asks for the device %s of the host", value)
		c.Devices = append(c.Devices, value)
	case "--gpus":
		r.need(AllowDevices, place, "it asks for graphics processors of the host")
		c.GPUs = value
	case "--network", "--net":
		switch {
		case value == "none" || value == "bridge" || value == "default":
			c.Network = strings.TrimSuffix(value, "default")
		default:
			r.need(AllowHostSpaces, place, "it asks for the network %s", value)
			c.Network = value
		}
	case "--pid", "--ipc", "--uts", "--userns", "--cgroupns":
		if value == "private" {
			return
		}
		r.need(AllowHostSpaces, place, "it asks for another %s space (%s)", strings.TrimLeft(name, "-"), value)
		if c.Spaces == nil {
			c.Spaces = map[string]string{}
		}
		c.Spaces[strings.TrimLeft(name, "-")] = value
	case "--publish", "--publish-all", "--name", "--rm", "--label", "-it", "-i", "-t", "-d", "--interactive", "--tty", "--detach", "--workdir", "--pull", "--restart":
		// Ports are forwarded instead of published; name, labels, life and terminal of the
		// container are Domicile's; programs start in workspaceFolder.
	default:
		r.refuse(place, "runArgs: %s has no equivalent", name)
	}
}

func (c *Container) amount(name, value, place string, r *refuser) int64 {
	text := strings.ToLower(value)
	if n := len(text); n > 1 && strings.ContainsAny(text[n-1:], "kmgt") {
		text += "b"
	}
	n, err := definition.ParseAmount(strings.TrimSuffix(strings.ReplaceAll(text, "bb", "b"), ""))
	if err != nil || n > math.MaxInt64/2 {
		r.refuse(place, "runArgs: %s %q is no amount of memory", name, value)
	}
	return n
}

// volume reads source:target[:options].
func (c *Container) volume(value, place string, r *refuser) {
	parts := strings.Split(value, ":")
	m := definition.Mount{Type: "volume"}
	switch len(parts) {
	case 1:
		m.Target = parts[0]
	case 2, 3:
		m.Source, m.Target = parts[0], parts[1]
		m.ReadOnly = len(parts) == 3 && strings.Contains(","+parts[2]+",", ",ro,")
	default:
		r.refuse(place, "runArgs: --volume %s cannot be read", value)
		return
	}
	if strings.ContainsAny(m.Source, "/~.$") {
		m.Type = "bind"
	}
	c.mount(m, place, r)
}

func (c *Container) mount(m definition.Mount, place string, r *refuser) {
	if out, ok := r.mount(m, place); ok {
		c.Mounts = append(c.Mounts, out)
	}
}
