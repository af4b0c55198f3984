package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"domicile/internal/agent/wire"
	"domicile/internal/visible"
)

const (
	// endGrace is how long programs have to end if nobody says something else.
	endGrace = 10 * time.Second
	// maxGrace bounds what may be said.
	maxGrace = 10 * time.Minute
	// endPoll is how often the agent looks whether they have.
	endPoll = 50 * time.Millisecond
	// maxSurvivors bounds how many programs are named that did not end.
	maxSurvivors = 20
)

// endPrograms asks programs to end: first all of them by SIGTERM, which a program may handle in its own time; when
// only shells are left, these by SIGHUP, because an interactive shell ignores SIGTERM. It returns the names of those
// that still run after the grace period. everybody means all processes that the agent may signal, which is right in a
// container alone; else those that it has started.
func (s *Server) endPrograms(grace time.Duration, everybody bool) []string {
	s.ending.Store(true)
	left := func() []int {
		if everybody {
			return others()
		}
		var pids []int
		for _, p := range s.spawner.all() {
			pids = append(pids, p.pid)
		}
		return pids
	}
	signal := func(sig syscall.Signal) {
		if !everybody {
			s.spawner.stopAll(sig)
			return
		}
		for _, pid := range others() {
			_ = syscall.Kill(pid, sig)
		}
	}
	signal(syscall.SIGTERM)
	signal(syscall.SIGCONT) // one that is stopped hears nothing
	hungUp := false
	for limit := time.Now().Add(grace); ; {
		pids := left()
		if len(pids) == 0 {
			return nil
		}
		if !hungUp && !slices.ContainsFunc(pids, func(pid int) bool { return !s.spawner.has(pid) }) {
			hungUp = true
			s.spawner.stopAll(syscall.SIGHUP)
		}
		if time.Now().After(limit) {
			return named(pids)
		}
		<-time.After(endPoll)
	}
}

// has reports whether the agent has started a process.
func (s *spawner) has(pid int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.running[pid] != nil
}

// others are the processes of this container, without its first one, the agent, and those that have ended. The agent's
// own program runs also to carry the service's connection, which is wanted to the end.
func others() (pids []int) {
	own, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return nil
	}
	list, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range list {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == 1 || pid == os.Getpid() || syscall.Kill(pid, 0) != nil {
			continue
		}
		if exe, err := os.Readlink(filepath.Join("/proc", e.Name(), "exe")); err == nil && exe == own {
			continue
		}
		b, err := os.ReadFile(filepath.Join("/proc", e.Name(), "stat"))
		if err != nil {
			continue
		}
		// The state follows the name, which stands in brackets and may have any character (proc(5)).
		_, rest, found := strings.Cut(string(b[strings.LastIndexByte(string(b), ')')+1:]), " ")
		if found && !strings.HasPrefix(rest, "Z") && !strings.HasPrefix(rest, "X") {
			pids = append(pids, pid)
		}
	}
	return pids
}

func named(pids []int) (names []string) {
	for i, pid := range pids {
		if i == maxSurvivors {
			return append(names, fmt.Sprintf("and %d more", len(pids)-i))
		}
		names = append(names, fmt.Sprintf("%d %s", pid, visible.Line(commandOf(pid), longestCommand)))
	}
	return names
}

// endOnRequest carries out the service's request that programs end, before the workspace is stopped.
func (s *Server) endOnRequest(q wire.EndRequest) wire.EndReply {
	grace := min(time.Duration(q.GraceSeconds*float64(time.Second)), maxGrace)
	// Outside a container everybody would be all processes of the host.
	return wire.EndReply{Survivors: s.endPrograms(grace, q.Everybody && self() == wire.AgentPath)}
}
