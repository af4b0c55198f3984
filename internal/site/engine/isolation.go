package engine

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"
)

// isolation is what was last found between the networks of an engine.
type isolation struct {
	at    time.Time
	known bool
	said  string
}

const (
	isolationEvery = 5 * time.Minute
	isolationLimit = 5 * time.Second
)

// networksJoined sees to it that the engine's networks are kept apart, and says what is
// wrong: where the engine runs on this machine by the packet filter's rules, and everywhere
// by a trial.
func (s *Site) networksJoined(ctx context.Context) string {
	s.tryNow()
	s.mu.Lock()
	last, folder, trial := s.looked, s.host.folder, s.trial
	s.mu.Unlock()
	if folder != "" && time.Since(last.at) >= isolationEvery {
		last = s.border(ctx)
		s.mu.Lock()
		s.looked = last
		s.mu.Unlock()
	}
	switch {
	case trial.reached:
		return "a program on one of two networks reached one on the other; start the engine again, or put its rules back"
	case !last.known && trial.failed != nil:
		return fmt.Sprintf("whether they do could not be tried (%v)", trial.failed)
	}
	return last.said
}

// border is lookAtIsolation within its limit.
func (s *Site) border(ctx context.Context) isolation {
	ctx, cancel := context.WithTimeout(ctx, isolationLimit)
	defer cancel()
	i := isolation{at: time.Now()}
	i.said, i.known = s.lookAtIsolation(ctx)
	return i
}

// lookAtIsolation sets the border between the engine's networks, whatever has become of the
// engine's own rules. Where that cannot be done, the engine's own are looked for: its chains
// must be there, be reached from the chain of what is forwarded, and name the bridges.
func (s *Site) lookAtIsolation(ctx context.Context) (said string, known bool) {
	bridges, err := s.bridgesHere(ctx)
	if err != nil || len(bridges) == 0 {
		return "", false
	}
	err = s.keepBorder(ctx, bridges)
	switch {
	case err == nil:
		return "", true
	case !errors.Is(err, errNoFilter):
		return err.Error(), true
	}
	filter, err := exec.CommandContext(ctx, "iptables", "-w", "-S").Output()
	if err != nil {
		return "", false // another packet filter, or one that this service may not read
	}
	var devices []string
	for _, b := range bridges {
		devices = append(devices, b.device)
	}
	return keptApart(string(filter), devices), true
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
