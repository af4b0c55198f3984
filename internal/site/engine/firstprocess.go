package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/docker/docker/api/types/container"

	"domicile/internal/agent/wire"
	"domicile/internal/plan"
)

// firstProcess decides what the container runs: the agent, or the image's own command
// with the agent beside it; the features' entrypoints before either.
func (s *Site) firstProcess(ctx context.Context, config *container.Config, c plan.Container) error {
	if c.Service != nil {
		config.Cmd, config.Entrypoint, config.WorkingDir = c.Service.Command, c.Service.Entrypoint, c.Service.Folder
		if h := c.Service.Health; h != nil {
			config.Healthcheck = &container.HealthConfig{Test: h.Test, Interval: h.Interval, Timeout: h.Timeout, StartPeriod: h.StartPeriod, Retries: h.Retries}
		}
	}
	if c.Override {
		user, err := s.runsAs(ctx, c)
		if err != nil {
			return err
		}
		config.Entrypoint, config.Cmd = entry(c.Entrypoints, s.agentCommand(c.HelperOf != "")), []string{}
		// The agent needs root to become the session's user; it runs nothing as root itself.
		// Where the container is somebody else's it runs beside the first process.
		if config.User = "0:0"; !isRoot(user) {
			config.User, config.Labels[labelBeside] = user, "true"
			config.Entrypoint = entry(c.Entrypoints, []string{wire.AgentPath, "stay"})
		}
		return nil
	}
	config.User, config.Labels[labelBeside] = c.User, "true"
	if c.Service != nil && c.Service.StopSignal != "" {
		config.StopSignal = c.Service.StopSignal
	}
	if c.Saved != "" {
		config.Entrypoint, config.Cmd = nil, nil // the snapshot's own, with the entrypoints in it
		return nil
	}
	if len(c.Entrypoints) == 0 {
		return nil
	}
	i, err := s.api.ImageInspect(ctx, s.local(c.Image))
	if err != nil {
		return err
	}
	command := append(slices.Clone(config.Entrypoint), config.Cmd...)
	if len(config.Entrypoint) == 0 && i.Config != nil {
		command = append(slices.Clone(i.Config.Entrypoint), config.Cmd...)
		if len(config.Cmd) == 0 {
			command = append(command, i.Config.Cmd...)
		}
	}
	config.Entrypoint, config.Cmd = entry(c.Entrypoints, command), []string{}
	return nil
}

// runsAs is the user of a container: what the definition says, or its image's.
func (s *Site) runsAs(ctx context.Context, c plan.Container) (string, error) {
	if c.User != "" {
		return c.User, nil
	}
	i, err := s.api.ImageInspect(ctx, s.local(c.Image))
	if isNotFound(err) && c.Saved != "" { // the container of which that was kept had its user
		i, err = s.api.ImageInspect(ctx, s.local(c.Saved))
	}
	if err != nil || i.Config == nil {
		return "", err
	}
	return i.Config.User, nil
}

func isRoot(user string) bool {
	name, _, _ := strings.Cut(user, ":")
	return name == "" || name == "root" || name == "0"
}

// entry runs the features' entrypoints in order and then the command. One that fails is
// told in the container's output and does not keep the others from starting.
func entry(before, command []string) []string {
	if len(before) == 0 {
		return command
	}
	var script strings.Builder
	for _, e := range before {
		fmt.Fprintf(&script, "%s || echo \"the entrypoint %s failed\" >&2\n", e, strings.ReplaceAll(e, `"`, ""))
	}
	script.WriteString("exec \"$@\"\n")
	return append([]string{"/bin/sh", "-c", script.String(), "entrypoints"}, command...)
}

// agentCommand starts the agent; that of a helper serves its workspace's network too.
func (s *Site) agentCommand(guests bool) []string {
	command := []string{wire.AgentPath, "serve", "-version", s.agentNow().digest}
	if s.o.ServiceKey != "" {
		command = append(command, "-service-key", s.o.ServiceKey)
	}
	if guests {
		command = append(command, "-guests", fmt.Sprintf(":%d", wire.GuestPort))
	}
	return command
}
