package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/network"
)

// isolation is what was last found between the networks of an engine.
type isolation struct {
	at   time.Time
	said string
}

const (
	isolationEvery = 5 * time.Minute
	isolationLimit = 5 * time.Second
)

// networksJoined looks whether what keeps an engine's networks apart is in force, and says
// what is wrong. An engine writes it into the packet filter of its host at its start, and
// the start of another engine, or of a firewall, can take it away. It can be seen only where
// the engine runs on this machine.
func (s *Site) networksJoined(ctx context.Context) string {
	s.mu.Lock()
	last, folder := s.tried, s.host.folder
	s.mu.Unlock()
	if folder == "" {
		return ""
	}
	if time.Since(last.at) < isolationEvery {
		return last.said
	}
	ctx, cancel := context.WithTimeout(ctx, isolationLimit)
	defer cancel()
	said := s.lookAtIsolation(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tried = isolation{time.Now(), said}
	return said
}

// lookAtIsolation reads the packet filter: the engine's chains must be there, be reached
// from the chain of what is forwarded, and name the bridges of this installation.
func (s *Site) lookAtIsolation(ctx context.Context) string {
	if os.Getuid() != 0 {
		return ""
	}
	filter, err := exec.CommandContext(ctx, "iptables", "-w", "-S").Output()
	if err != nil {
		return "" // another packet filter: nothing is known
	}
	list, err := s.api.NetworkList(ctx, network.ListOptions{Filters: filters.NewArgs(filters.Arg("driver", "bridge"), filters.Arg("label", labelInstallation+"="+s.o.Installation))})
	if err != nil || len(list) == 0 {
		return ""
	}
	var bridges []string
	for _, n := range list {
		name := n.Options["com.docker.network.bridge.name"]
		if name == "" && len(n.ID) > 12 {
			name = "br-" + n.ID[:12]
		}
		if _, err := os.Stat(filepath.Join("/sys/class/net", name)); errors.Is(err, os.ErrNotExist) {
			return "" // the engine's networks are not on this machine
		}
		bridges = append(bridges, name)
	}
	return keptApart(string(filter), bridges)
}

// keptApart tells what is wrong with the rules of a packet filter, as "iptables -S" writes
// them, for the bridges of networks.
func keptApart(filter string, bridges []string) string {
	lines := strings.Split(filter, "\n")
	has := func(want ...string) bool {
		for _, line := range lines {
			all := true
			for _, w := range want {
				all = all && strings.Contains(" "+line+" ", " "+w+" ")
			}
			if all {
				return true
			}
		}
		return false
	}
	const remedy = "; start the engine again, or put its rules back"
	// The two stages of older engines; newer ones drop in one chain.
	switch {
	case has("-A FORWARD", "-j DOCKER-ISOLATION-STAGE-1"):
	case has("-A FORWARD", "-j DOCKER-FORWARD"):
		return ""
	default:
		return "what is forwarded between networks does not pass the engine's rules any more" + remedy
	}
	for _, b := range bridges {
		if !has("-A DOCKER-ISOLATION-STAGE-1", "-i "+b, "-j DOCKER-ISOLATION-STAGE-2") || !has("-A DOCKER-ISOLATION-STAGE-2", "-o "+b, "-j DROP") {
			return fmt.Sprintf("the rule that keeps the network %s apart from others is gone", b) + remedy
		}
	}
	return ""
}
