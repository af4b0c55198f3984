package plan

import (
	"math"
	"path"
	"strconv"
	"strings"

	"domicile/internal/definition"
	"domicile/internal/judge"
)

// runArgs maps the engine flags of a definition one by one to settings of the container.
// What has no equivalent is refused by name: it is neither passed on nor dropped.
func (c *Container) runArgs(args []string, r *written) {
	for i := 0; i < len(args); i++ {
		place := r.place("/runArgs/" + strconv.Itoa(i))
		name, value, has := strings.Cut(args[i], "=")
		if !strings.HasPrefix(name, "-") {
			r.Refuse(place, "runArgs: %q belongs to no flag", args[i])
			continue
		}
		if short, known := shortFlags[name]; known {
			name = short
		} else if len(name) > 2 && name[1] != '-' && shortFlags[name[:2]] != "" && !has { // -v/a:/b
			name, value, has = shortFlags[name[:2]], name[2:], true
		}
		if !has && !plainFlags[name] {
			if i+1 == len(args) {
				r.Refuse(place, "runArgs: %s has no value", name)
				return
			}
			if strings.HasPrefix(args[i+1], "--") { // no value begins so: the flag is unknown, or its value is missing
				c.runArg(name, "", place, r)
				continue
			}
			i++
			value = args[i]
		}
		c.runArg(name, value, place, r)
	}
}

var shortFlags = map[string]string{"-v": "--volume", "-e": "--env", "-p": "--publish", "-u": "--user", "-h": "--hostname", "-m": "--memory", "-l": "--label", "-w": "--workdir", "-c": "--cpu-shares", "-P": "--publish-all"}

var plainFlags = map[string]bool{"--privileged": true, "--init": true, "--rm": true, "-it": true, "-i": true, "-t": true, "-d": true, "--interactive": true, "--tty": true, "--detach": true, "--read-only": true, "--publish-all": true}

func (c *Container) runArg(name, value, place string, r *written) {
	switch name {
	case "--cap-add":
		c.CapAdd = append(c.CapAdd, value)
		c.Places.note("CapAdd", value, place)
	case "--cap-drop":
		c.CapDrop = append(c.CapDrop, value)
		c.Places.note("CapDrop", value, place)
	case "--security-opt":
		c.SecurityOpt = append(c.SecurityOpt, value)
		c.Places.note("SecurityOpt", value, place)
	case "--privileged":
		if value != "false" {
			c.Privileged = true
			c.Places["Privileged"] = place
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
			c.Places.note("Env", k, place)
		}
	case "--hostname":
		c.Hostname = value
		c.Places["Hostname"] = place
	case "--user":
		c.User = value
		c.Places["User"] = place
	case "--shm-size":
		c.SharedMemory = c.amount(name, value, place, r)
	case "--memory":
		c.Memory = c.amount(name, value, place, r)
	case "--cpus":
		n, err := strconv.ParseFloat(value, 64)
		if err != nil || n <= 0 || n > 4096 {
			r.Refuse(place, "runArgs: --cpus %q is no number of processors", value)
			return
		}
		c.CPUs = n
	case "--add-host":
		c.Hosts = append(c.Hosts, value)
		c.Places.note("Hosts", value, place)
	case "--dns":
		c.DNS = append(c.DNS, value)
		c.Places.note("DNS", value, place)
	case "--group-add":
		c.Groups = append(c.Groups, value)
		c.Places.note("Groups", value, place)
	case "--ulimit":
		c.Ulimits = append(c.Ulimits, value)
		c.Places.note("Ulimits", value, place)
	case "--pids-limit":
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil || n <= 0 {
			r.Refuse(place, "runArgs: --pids-limit %q is no number of processes that a container may have", value)
			return
		}
		c.Processes = n
		c.Places.note("Processes", "", place)
	case "--sysctl":
		if c.Sysctls == nil {
			c.Sysctls = map[string]string{}
		}
		k, v, _ := strings.Cut(value, "=")
		c.Sysctls[k] = v
		c.Places.note("Sysctls", k, place)
	case "--tmpfs":
		target, options, _ := strings.Cut(value, ":")
		before := len(c.Mounts)
		c.mount(definition.Mount{Type: "tmpfs", Target: target}, place, r.report)
		for _, o := range strings.Split(options, ",") {
			size, is := strings.CutPrefix(o, "size=")
			if !is {
				continue
			}
			n := c.amount(name, size, place, r)
			for i := range c.Mounts[before:] {
				c.Mounts[before+i].Size = n
			}
		}
	case "--mount":
		m, err := definition.ParseMount(value)
		if err != nil {
			r.Refuse(place, "runArgs: --mount %s: %v", value, err)
			return
		}
		c.mount(m, place, r.report)
	case "--volume":
		c.volume(value, place, r)
	case "--device":
		c.Devices = append(c.Devices, value)
		c.Places.note("Devices", value, place)
	case "--gpus":
		c.GPUs = value
		c.Places.note("GPUs", "", place)
	case "--network", "--net":
		c.Network = strings.TrimSuffix(value, "default")
		c.Places.note("Network", "", place)
	case "--pid", "--ipc", "--uts", "--userns", "--cgroupns":
		if c.Spaces == nil {
			c.Spaces = map[string]string{}
		}
		space := strings.TrimLeft(name, "-")
		c.Spaces[space] = value
		c.Places.note("Spaces", space, place)
	case "--publish", "--publish-all", "--name", "--rm", "--label", "-it", "-i", "-t", "-d", "--interactive", "--tty", "--detach", "--workdir", "--pull", "--restart":
		// Ports are forwarded instead of published; name, labels, life and terminal of the
		// container are Domicile's; programs start in workspaceFolder.
	default:
		r.Refuse(place, "runArgs: %s has no equivalent", name)
	}
}

func (c *Container) amount(name, value, place string, r *written) int64 {
	text := strings.ToLower(value)
	if n := len(text); n > 1 && strings.ContainsAny(text[n-1:], "kmgt") {
		text += "b"
	}
	n, err := definition.ParseAmount(strings.TrimSuffix(strings.ReplaceAll(text, "bb", "b"), ""))
	if err != nil || n > math.MaxInt64/2 {
		r.Refuse(place, "runArgs: %s %q is no amount of memory", name, value)
	}
	return n
}

// volume reads source:target[:options].
func (c *Container) volume(value, place string, r *written) {
	parts := strings.Split(value, ":")
	m := definition.Mount{Type: "volume"}
	switch len(parts) {
	case 1:
		m.Target = parts[0]
	case 2, 3:
		m.Source, m.Target = parts[0], parts[1]
		m.ReadOnly = len(parts) == 3 && strings.Contains(","+parts[2]+",", ",ro,")
	default:
		r.Refuse(place, "runArgs: --volume %s cannot be read", value)
		return
	}
	if strings.ContainsAny(m.Source, "/~.$") {
		m.Type = "bind"
	}
	c.mount(m, place, r.report)
}

// mount adds a mount as the site makes it. A volume whose name is a path is what an engine
// takes for a folder of the host. A part of the source is reached in the source that the
// container has, not on the host.
func (c *Container) mount(m definition.Mount, place string, r *definition.Report) {
	out := Mount{Type: m.Type, Source: m.Source, Target: cleanTarget(m.Target), ReadOnly: m.ReadOnly}
	switch {
	case m.Type == "tmpfs":
		out.Source = ""
	case m.Type == "volume" && (strings.ContainsAny(m.Source, "/\\") || strings.HasPrefix(m.Source, ".")):
		out.Type = "bind"
	}
	if part, is := inSource(out, r.LocalFolder); is {
		out.Type, out.Source = judge.MountFile, part
		if part == "." {
			out.Type, out.Source = judge.MountSource, ""
		}
	}
	c.Mounts = append(c.Mounts, out)
	c.Places.note("Mounts", out.Target, place)
}

// inSource tells which part of the source a mount asks for; "." is the whole.
func inSource(m Mount, source string) (part string, is bool) {
	if m.Type != "bind" || !path.IsAbs(m.Source) {
		return "", false
	}
	clean := path.Clean(m.Source)
	if clean == path.Clean(source) {
		return ".", true
	}
	return strings.CutPrefix(clean, path.Clean(source)+"/")
}

func cleanTarget(target string) string {
	if target == "" {
		return ""
	}
	return path.Clean(target)
}
