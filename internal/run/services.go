package run

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// servicePatience is how long a service has to become as its dependents want it.
const servicePatience = 5 * time.Minute

// serviceLimit bounds how long a service is waited for that works all the time.
const serviceLimit = time.Hour

// waitForServices waits until the services that one depends on are as it wants them.
func (c *execution) waitForServices(ctx context.Context, id, who string, after []plan.Dependency) error {
	still := stillness{began: time.Now(), since: time.Now()}
	told := map[string]bool{}
	for {
		list, err := c.at.can.Beside.Services(ctx, id)
		if err != nil {
			return err
		}
		waiting := ""
		for _, d := range after {
			done, err := c.dependency(ctx, id, d, list)
			if err != nil {
				if d.Optional {
					continue
				}
				return err
			}
			if !done {
				waiting = d.Service
			}
		}
		if waiting == "" {
			return nil
		}
		if !told[waiting] {
			told[waiting] = true
			c.log.say(fmt.Sprintf("%s waits for %s", who, waiting))
		}
		if time.Since(still.began) > serviceLimit {
			return c.serviceFault(ctx, id, waiting, "did not become ready within %s", serviceLimit)
		}
		if c.moves(ctx, id, list, &still) > servicePatience {
			return c.serviceFault(ctx, id, waiting, "did not become ready, and nothing of it moved for %s", servicePatience)
		}
		pause(ctx, 100*time.Millisecond)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
}

// stillness is how services were when something of them last moved.
type stillness struct {
	began  time.Time
	since  time.Time
	looked time.Time
	states []site.Service
	worked time.Duration
}

const (
	// movesEvery is how often it is looked whether services work.
	movesEvery = 5 * time.Second
	// movesLeast is how much of a processor's time counts as work: what only waits takes less.
	movesLeast = 500 * time.Millisecond
)

// moves returns for how long nothing of the services has moved: none has changed its state, and none has worked. In a
// machine under emulation one that starts may take many times as long as elsewhere.
func (c *execution) moves(ctx context.Context, id string, list []site.Service, s *stillness) time.Duration {
	now := time.Now()
	if !slices.Equal(s.states, list) {
		s.states, s.since = list, now
	}
	if c.at.can.Overseer != nil && now.Sub(s.looked) >= movesEvery {
		s.looked = now
		if worked, err := c.at.can.Overseer.Worked(ctx, id); err == nil {
			if worked-s.worked >= movesLeast {
				s.since = now
			}
			s.worked = worked
		}
	}
	return now.Sub(s.since)
}

// dependency tells whether a service is as far as it must be.
func (c *execution) dependency(ctx context.Context, id string, d plan.Dependency, list []site.Service) (bool, error) {
	i := slices.IndexFunc(list, func(s site.Service) bool { return s.Name == d.Service })
	if i < 0 {
		// The workspace itself, or one that does not run.
		return !slices.ContainsFunc(c.out.plan.Services, func(s plan.Service) bool { return s.Name == d.Service }), nil
	}
	s := list[i]
	ended := s.Started && !s.Running
	switch d.Condition {
	case plan.Completed:
		if ended && s.ExitCode != 0 {
			return false, c.serviceFault(ctx, id, s.Name, "ended with exit status %d, and must end with 0", s.ExitCode)
		}
		return ended, nil
	case plan.Healthy:
		switch {
		case ended:
			return false, c.serviceFault(ctx, id, s.Name, "ended with exit status %d", s.ExitCode)
		case s.Health == "":
			return false, c.serviceFault(ctx, id, s.Name, "has no health check, and others wait for it to be healthy")
		case s.Health == "unhealthy":
			return false, c.serviceFault(ctx, id, s.Name, "is not healthy")
		}
		return s.Health == "healthy", nil
	}
	return s.Started, nil
}

// serviceFault tells what became of a service, with its last words.
func (c *execution) serviceFault(ctx context.Context, id, service, format string, args ...any) error {
	if c.at.can.Overseer != nil {
		var said bytes.Buffer
		_ = c.at.can.Overseer.ServiceLog(ctx, id, service, 20, &said) // as far as it came
		for line := range strings.Lines(said.String()) {
			c.log.say(service + ": " + strings.TrimRight(line, "\r\n"))
		}
	}
	place := ""
	if v, err := c.out.plan.ServiceByName(service); err == nil && v.File != "" {
		place = fmt.Sprintf(" (%s:%d)", v.File, v.Line)
	}
	return fault.New("service-failed", "look at its last lines in the log of this run, and correct it", "the service %s%s %s", service, place, fmt.Sprintf(format, args...))
}
