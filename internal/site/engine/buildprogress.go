package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/moby/buildkit/client"
	"github.com/opencontainers/go-digest"

	"domicile/internal/fault"
)

// buildLog is what a build said, as far as its end needs it.
type buildLog struct {
	failed string   // the step that failed
	last   []string // the last lines of that step
	lines  map[digest.Digest][]string
	names  map[digest.Digest]string
	begun  map[digest.Digest]bool
	ended  map[digest.Digest]bool
	open   map[digest.Digest]string // the beginning of a line that has no end yet
}

// followBuild tells the steps of a build as they begin and end, and what they print.
func followBuild(status chan *client.SolveStatus, progress func(string)) *buildLog {
	l := &buildLog{lines: map[digest.Digest][]string{}, names: map[digest.Digest]string{}, begun: map[digest.Digest]bool{}, ended: map[digest.Digest]bool{}, open: map[digest.Digest]string{}}
	for s := range status {
		for _, v := range s.Vertexes {
			l.vertex(v, progress)
		}
		for _, log := range s.Logs {
			l.text(log.Vertex, string(log.Data), progress)
		}
	}
	return l
}

func (l *buildLog) vertex(v *client.Vertex, progress func(string)) {
	name := strings.Join(strings.Fields(v.Name), " ")
	if len(name) > 200 {
		name = name[:200] + "…"
	}
	l.names[v.Digest] = name
	if v.Started != nil && !l.begun[v.Digest] && !v.Cached {
		l.begun[v.Digest] = true
		progress(name)
	}
	if v.Completed == nil || l.ended[v.Digest] {
		return
	}
	l.ended[v.Digest] = true
	switch {
	case v.Error != "" && !strings.Contains(v.Error, context.Canceled.Error()):
		l.failed, l.last = name, l.lines[v.Digest]
	case v.Cached:
		progress("unchanged: " + name)
	case v.Started != nil && v.Completed.Sub(*v.Started) > time.Second:
		progress(fmt.Sprintf("%.1f s: %s", v.Completed.Sub(*v.Started).Seconds(), name))
	}
}

// keptLines is how many of a step's last lines are kept for its failure.
const keptLines = 20

func (l *buildLog) text(of digest.Digest, data string, progress func(string)) {
	data = l.open[of] + data
	lines := strings.Split(data, "\n")
	l.open[of] = lines[len(lines)-1]
	for _, line := range lines[:len(lines)-1] {
		line = strings.TrimRight(line, "\r")
		l.lines[of] = append(l.lines[of], line)
		if n := len(l.lines[of]); n > keptLines {
			l.lines[of] = l.lines[of][n-keptLines:]
		}
		progress(line)
	}
}

// explain turns the end of a build into what a person can act on.
func (w *oneBuild) explain(err error, log *buildLog) error {
	var known *fault.Fault
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known), errors.As(w.failed, &known):
		return known
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	}
	text := err.Error()
	switch {
	case strings.Contains(text, "no space left on device"):
		return fault.Wrap(err, "disk-full", "free space on the engine's disk, then try again", "the engine's disk is full")
	case strings.Contains(text, "network bridge not found"):
		return fault.New("engine-without-bridge", "start the engine with its default bridge; builds use it", "the container engine has no default network for image builds")
	case log.failed != "":
		last := ""
		for i := len(log.last) - 1; i >= 0 && last == ""; i-- {
			last = strings.TrimSpace(log.last[i])
		}
		reason := exitWords(text)
		if last != "" {
			reason += ", after it said: " + last
		}
		return fault.New("build-failed", "correct that step, or what it needs; then provision again: what was built before it is kept", "%s: %s", log.failed, reason)
	case containsAny(text, "connection error", "Unavailable", "EOF", "connection reset", "transport", "no active session"):
		return fault.Transient(err, "engine-unavailable", startEngine, "the engine's image builder broke off")
	}
	return fault.Wrap(err, "build-failed", "", "the image cannot be built")
}

// exitWords takes a step's exit status out of BuildKit's sentence.
func exitWords(text string) string {
	if _, rest, found := strings.Cut(text, "exit code: "); found {
		return "exit status " + strings.Fields(rest)[0]
	}
	return text
}
