package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"
)

// The border between networks. An engine keeps its networks apart with rules of its own,
// which the start of another engine on the same machine clears: from then on a workspace
// reaches the others. So Domicile has rules of its own too, in chains that no engine
// touches, for all networks of its engine. All installations of a machine share the chains,
// so that the networks of two engines are kept apart as well.
const (
	borderTable = "mangle"        // engines clear chains of the table "filter"
	borderFrom  = "DOMICILE-FROM" // what comes out of a network and leaves it
	borderTo    = "DOMICILE-TO"   // where it must not go
)

// bridge is the device of a network.
type bridge struct {
	device string
	closed bool // its members may not reach each other either
}

// bridgesHere lists the devices of the engine's networks. None: they are not on this machine.
func (s *Site) bridgesHere(ctx context.Context) ([]bridge, error) {
	list, err := s.api.NetworkList(ctx, network.ListOptions{Filters: filters.NewArgs(filters.Arg("driver", "bridge"))})
	if err != nil {
		return nil, s.explain(err, "list the networks")
	}
	var found []bridge
	for _, n := range list {
		if s.isPodman() { // whose devices are there only while somebody is on the network
			if n.Labels[labelInstallation] == s.o.Installation && s.isHere() {
				found = append(found, bridge{device: deviceOf(n.Name)})
			}
			continue
		}
		name := n.Options[bridgeName]
		if name == "" && len(n.ID) > 12 {
			name = "br-" + n.ID[:12]
		}
		if !deviceHere(name) {
			if n.Labels[labelInstallation] == s.o.Installation {
				return nil, nil
			}
			continue // one that was taken away beside the engine
		}
		found = append(found, bridge{name, n.Options["com.docker.network.bridge.enable_icc"] == "false"})
	}
	return found, nil
}

// comesAndGoes tells of a device of Podman's, which is there while somebody is on its network:
// its rules stay until the network is removed, whoever looks meanwhile. A service that is
// killed just then leaves two rules for a device that nobody has.
func comesAndGoes(device string) bool { return strings.HasPrefix(device, podmanDevice) }

// dropBorder takes the rules of a network away that is removed, where its device comes and goes.
func (s *Site) dropBorder(ctx context.Context, network string) {
	if !s.isPodman() || os.Getuid() != 0 {
		return
	}
	s.bordering.Lock()
	defer s.bordering.Unlock()
	now, err := exec.CommandContext(ctx, "iptables", "-w", "-t", borderTable, "-S").Output()
	if err != nil {
		return // then there are none
	}
	device := deviceOf(network)
	_ = changeBorder(ctx, borderChange(string(now), nil, func(other string) bool { return other != device })) // what is left does no harm
}

// isHere tells that the engine is known to be on this machine.
func (s *Site) isHere() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.host.folder != ""
}

// borderFirst sets the border before a container starts whose network's device comes with it:
// an engine that was started meanwhile may have cleared it.
func (s *Site) borderFirst(ctx context.Context) {
	if s.isPodman() {
		s.border(ctx) // what is wrong with it is told when the site is examined
	}
}

func deviceHere(name string) bool {
	_, err := os.Stat(filepath.Join("/sys/class/net", name))
	return name != "" && filepath.Base(name) == name && err == nil
}

// errNoFilter is answered where this service cannot change the packet filter.
var errNoFilter = errors.New("the packet filter cannot be changed by this service")

// keepBorder brings the rules up to date with the engine's networks.
func (s *Site) keepBorder(ctx context.Context, bridges []bridge) error {
	if _, err := exec.LookPath("iptables-restore"); err != nil || os.Getuid() != 0 {
		return errNoFilter
	}
	s.bordering.Lock()
	defer s.bordering.Unlock()
	now, err := exec.CommandContext(ctx, "iptables", "-w", "-t", borderTable, "-S").Output()
	if err != nil {
		return errNoFilter
	}
	return changeBorder(ctx, borderChange(string(now), bridges, func(device string) bool { return deviceHere(device) || comesAndGoes(device) }))
}

func changeBorder(ctx context.Context, change string) error {
	if change == "" {
		return nil
	}
	c := exec.CommandContext(ctx, "iptables-restore", "-w", "--noflush")
	c.Stdin = strings.NewReader(change)
	var said bytes.Buffer
	c.Stderr = &said
	if err := c.Run(); err != nil {
		return fmt.Errorf("set the border between networks: %s: %w", strings.TrimSpace(said.String()), err)
	}
	return nil
}

// borderChange is what has to be given to iptables-restore, where the table is now as
// "iptables -S" writes it: what is missing is added, what belongs to devices that are gone
// is removed. Empty: nothing has to change.
func borderChange(now string, bridges []bridge, there func(device string) bool) string {
	lines := strings.Split(now, "\n")
	var b strings.Builder
	for _, chain := range []string{borderFrom, borderTo} {
		if !slices.Contains(lines, "-N "+chain) {
			fmt.Fprintf(&b, ":%s - [0:0]\n", chain)
		}
	}
	for _, line := range lines {
		if device := ofBorder(line); device != "" && !there(device) {
			fmt.Fprintln(&b, "-D"+strings.TrimPrefix(line, "-A"))
		}
	}
	need := func(position, rule string) {
		if !slices.Contains(lines, "-A "+rule) {
			fmt.Fprintln(&b, position+" "+rule)
		}
	}
	for _, bridge := range bridges {
		need("-A", fmt.Sprintf("%s -i %s ! -o %s -j %s", borderFrom, bridge.device, bridge.device, borderTo))
		need("-A", fmt.Sprintf("%s -o %s -j DROP", borderTo, bridge.device))
		if bridge.closed {
			need("-A", fmt.Sprintf("%s -i %s -o %s -j DROP", borderFrom, bridge.device, bridge.device))
		}
	}
	need("-I", "FORWARD -j "+borderFrom)
	if b.Len() == 0 {
		return ""
	}
	return "*" + borderTable + "\n" + b.String() + "COMMIT\n"
}

// ofBorder is the device that a rule of the border is about.
func ofBorder(rule string) string {
	words := strings.Fields(rule)
	if len(words) < 4 || words[0] != "-A" || words[1] != borderFrom && words[1] != borderTo || words[2] != "-i" && words[2] != "-o" {
		return ""
	}
	return words[3]
}
