package engine

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"syscall"
	"time"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/volume"
	"golang.org/x/sync/errgroup"

	"domicile/internal/agent/wire"
	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine/door"
)

// EnsureVolume makes the workspace's volume. Making one that is there changes nothing.
func (s *Site) EnsureVolume(ctx context.Context, workspace string) (bool, error) {
	_, err := s.api.VolumeInspect(ctx, s.name(workspace))
	if !isNotFound(err) {
		return false, s.explain(err, "look for the workspace's volume")
	}
	_, err = s.createVolume(ctx, volume.CreateOptions{Name: s.name(workspace), Labels: s.labels(workspace)})
	return true, s.explain(err, "make the workspace's volume")
}

// EnsureInstance makes the container under a name that only this workspace has, so that
// it cannot come to be twice.
func (s *Site) EnsureInstance(ctx context.Context, workspace string, judged plan.Judged[plan.Container]) error {
	c := judged.Value()
	there, err := s.api.ContainerInspect(ctx, s.name(workspace))
	if err == nil {
		if there.Config.Labels[labelDigest] == c.Digest && there.Config.Labels[labelInstallation] == s.o.Installation {
			return s.attachMore(ctx, workspace, there.ID, attachmentsOf(c)) // a crash may have come before
		}
		if err := s.api.ContainerRemove(ctx, there.ID, container.RemoveOptions{Force: true}); err != nil && !isNotFound(err) {
			return s.explain(err, "remove the workspace's earlier container")
		}
	} else if !isNotFound(err) {
		return s.explain(err, "look for the workspace's container")
	}
	switch err := s.create(ctx, workspace, c); {
	case cerrdefs.IsConflict(err):
		// Another one made it a moment ago, who has lost the run since: it is taken as made.
		there, inspectErr := s.api.ContainerInspect(ctx, s.name(workspace))
		if inspectErr == nil && there.Config.Labels[labelDigest] == c.Digest {
			return s.attachMore(ctx, workspace, there.ID, attachmentsOf(c))
		}
		return fault.Transient(err, "made-twice", "", "another container is being made for the workspace at this moment")
	case !isNotFound(err):
		return s.explain(err, "make the workspace's container")
	}
	s.forget() // the network or the agent's volume was removed from outside: make them again
	return s.explain(s.create(ctx, workspace, c), "make the workspace's container")
}

func (s *Site) create(ctx context.Context, workspace string, c plan.Container) error {
	image := s.local(c.Image)
	if c.Saved != "" {
		image = s.local(c.Saved)
	}
	local, err := s.isLocal(ctx) // from here on it is known what the host is
	if err != nil {
		return err
	}
	if err := s.ensureAgent(ctx, image); err != nil {
		return err
	}
	networkName, err := s.ensureNetwork(ctx)
	if err != nil {
		return err
	}
	shares, err := s.sharesFolder(ctx)
	if err != nil {
		return err
	}
	config := &container.Config{Image: image, Hostname: c.Hostname, Labels: s.labels(workspace), StopSignal: "SIGTERM"}
	config.Labels[labelDigest] = c.Digest
	if c.HelperOf != "" {
		config.Labels[labelGuests] = "true"
	}
	config.Env = environment(c.Env)
	if err := s.firstProcess(ctx, config, c); err != nil {
		return err
	}
	if c.SourceFolder != "" && local {
		config.Labels[labelFolder] = c.SourceFolder
		if c.SourceFolder, err = s.mountedFolder(workspace, c.SourceFolder); err != nil {
			return err
		}
	}
	host := &container.HostConfig{
		Mounts: []mount.Mount{{Type: mount.TypeVolume, Source: s.agentVolume(), Target: wire.AgentFolder, ReadOnly: true}},
	}
	if c.SourceTarget != "" {
		host.Mounts = append(host.Mounts, s.sourceMount(workspace, c))
	}
	if c.Init {
		host.Init = &c.Init
	}
	if c.Mounts, err = s.foldersOf(workspace, c.Mounts, config); err != nil {
		return err
	}
	if err := s.settings(workspace, c.Settings, host); err != nil {
		return err
	}
	s.boundMemory(host, c.LeastMemory)
	if err := s.giveScreen(c.Screen, host); err != nil {
		return err
	}
	attachments := attachmentsOf(c)
	networks := s.attach(workspace, attachments, host)
	of := c.HelperOf
	if of == "" && s.o.Alone && c.Door { // what comes through the door is to be reached by its name
		of = workspace
	}
	if of != "" && host.NetworkMode == "" {
		if networkName, err = s.helpersNetwork(ctx, of); err != nil {
			return err
		}
		networks = &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{networkName: {Aliases: []string{c.Hostname}}}}
		more, err := s.parentHosts(ctx, of)
		if err != nil {
			return err
		}
		host.ExtraHosts = append(host.ExtraHosts, more...)
	}
	if host.NetworkMode == "" {
		host.NetworkMode = container.NetworkMode(networkName)
	}
	onAnothers(config, host)
	s.hardware(config, attachments)
	if shares {
		if err := s.giveFolder(s.socketFolder(workspace)); err != nil {
			return fmt.Errorf("make the folder of the agent's socket: %w", err)
		}
		host.Mounts = append(host.Mounts, mount.Mount{Type: mount.TypeBind, Source: s.socketFolder(workspace), Target: wire.SocketFolder})
	}
	if s.o.Agent != nil {
		config.Labels[labelAgentFolder] = "true"
		// The engine makes the folder, also anew where its machine has booted.
		host.Binds = append(host.Binds, path.Join(channel.AgentFolder, workspace)+":"+wire.SocketFolder)
	}
	if !local && c.SourceFolder != "" {
		return fault.New("not-this-host", "use a git address", "the engine is on another machine than the folder %s", c.SourceFolder)
	}
	made, err := s.make(ctx, config, host, networks, s.name(workspace), c.Saved)
	if err != nil {
		return err
	}
	if c.Saved == "" { // else the links are in the snapshot
		if err := s.linkParts(ctx, made, c); err != nil {
			return err
		}
	}
	return s.attachMore(ctx, workspace, made, attachments)
}

func attachmentsOf(c plan.Container) []plan.Attachment {
	if c.Service == nil {
		return nil
	}
	return c.Service.Networks
}

// sourceMount is where the source comes from: the workspace's own volume, another's, or a
// folder of the host.
func (s *Site) sourceMount(workspace string, c plan.Container) mount.Mount {
	switch {
	case c.SourceFolder != "":
		return mount.Mount{Type: mount.TypeBind, Source: c.SourceFolder, Target: c.SourceTarget}
	case c.SourceOf != "":
		workspace = c.SourceOf
	}
	return mount.Mount{Type: mount.TypeVolume, Source: s.name(workspace), Target: c.SourceTarget}
}

// Start starts the container and, where the image's own command runs, the agent beside it.
func (s *Site) Start(ctx context.Context, workspace string) error {
	name := s.name(workspace)
	if err := s.ensureView(ctx, workspace, name); err != nil {
		return err
	}
	if err := s.ensureSockets(ctx, workspace, name); err != nil {
		return err
	}
	s.borderFirst(ctx)
	err := s.api.ContainerStart(ctx, name, container.StartOptions{})
	if err != nil && strings.Contains(err.Error(), "paused") { // keeping a snapshot was interrupted
		err = s.api.ContainerUnpause(ctx, name)
	}
	if err != nil {
		if isNotFound(err) {
			return fault.Wrap(err, "workspace-gone", "provision the workspace again; its source is still in its volume", "the workspace's container is gone from the engine")
		}
		return s.explain(err, "start the workspace's container")
	}
	there, err := s.api.ContainerInspect(ctx, name)
	if err != nil {
		return s.explain(err, "look at the workspace's container")
	}
	if there.Config.Labels[labelBeside] == "" {
		return nil
	}
	if !there.State.Running {
		return ended(there.State.ExitCode)
	}
	if s.agentAnswers(ctx, workspace) {
		return nil
	}
	e, err := s.api.ContainerExecCreate(ctx, name, container.ExecOptions{User: "0:0", Cmd: s.agentCommand(there.Config.Labels[labelGuests] != "")})
	if err == nil {
		err = s.api.ContainerExecStart(ctx, e.ID, container.ExecStartOptions{Detach: true})
	}
	if there, inspectErr := s.api.ContainerInspect(ctx, name); err != nil && inspectErr == nil && !there.State.Running {
		return ended(there.State.ExitCode)
	}
	return s.explain(err, "start the agent in the workspace's container")
}

func ended(status int) error {
	return fault.New("workspace-ended", "leave overrideCommand at true, or give the image a command that stays",
		"the image's own command ended at once (exit status %d)", status)
}

// Stop stops the container. One that is gone is stopped.
func (s *Site) Stop(ctx context.Context, workspace string, grace time.Duration, services bool) error {
	seconds := int(grace.Seconds())
	if services {
		if err := s.stopServices(ctx, workspace, seconds); err != nil {
			return err
		}
	}
	err := s.api.ContainerStop(ctx, s.name(workspace), container.StopOptions{Timeout: &seconds})
	if isNotFound(err) {
		return nil
	}
	return s.explain(err, "stop the workspace's container")
}

// stopServices stops the services beside a workspace, all at once.
func (s *Site) stopServices(ctx context.Context, workspace string, seconds int) error {
	list, err := s.Services(ctx, workspace)
	if err != nil {
		return err
	}
	var all errgroup.Group
	for _, v := range list {
		all.Go(func() error {
			err := s.stopService(ctx, s.serviceName(workspace, v.Name), seconds)
			if isNotFound(err) {
				return nil
			}
			return s.explain(err, "stop the service "+v.Name)
		})
	}
	return all.Wait()
}

// stopService stops a container beside a workspace. One whose Compose file says how long it may take has that long.
func (s *Site) stopService(ctx context.Context, name string, seconds int) error {
	c, err := s.api.ContainerInspect(ctx, name)
	if err != nil {
		return err
	}
	options := container.StopOptions{Timeout: &seconds}
	if c.Config != nil && c.Config.StopTimeout != nil {
		options.Timeout = nil
	}
	return s.api.ContainerStop(ctx, name, options)
}

// Find inspects the workspace's container.
func (s *Site) Find(ctx context.Context, workspace string) (site.Instance, bool, error) {
	c, err := s.api.ContainerInspect(ctx, s.name(workspace))
	if isNotFound(err) {
		return site.Instance{}, false, nil
	}
	if err != nil {
		return site.Instance{}, false, s.explain(err, "look for the workspace's container")
	}
	i := site.Instance{Workspace: workspace, Running: c.State.Running, Digest: c.Config.Labels[labelDigest]}
	if !i.Running && c.State.Status != container.StateCreated {
		i.Ended = fmt.Sprintf("exit status %d", c.State.ExitCode)
	}
	return i, true, nil
}

// wasInterrupted tells whether an exit status is that of a program which was ended from
// outside, by SIGKILL or SIGTERM.
func wasInterrupted(status int) bool {
	return status == 128+int(syscall.SIGKILL) || status == 128+int(syscall.SIGTERM)
}

// List lists the containers of this installation's workspaces.
func (s *Site) List(ctx context.Context) ([]site.Instance, error) {
	containers, err := s.containers(ctx, "")
	if err != nil {
		return nil, err
	}
	shares, err := s.sharesFolder(ctx)
	if err != nil {
		return nil, err
	}
	beside := map[string][]site.Service{}
	var list []site.Instance
	for _, c := range containers {
		id, exit := c.Labels[labelWorkspace], 0
		ended, _ := fmt.Sscanf(c.Status, "Exited (%d)", &exit) // none where it never ran
		if name := c.Labels[labelService]; name != "" {
			beside[id] = append(beside[id], site.Service{Name: name, Running: c.State == "running", Started: c.State != "created", ExitCode: exit, Interrupted: ended == 1 && wasInterrupted(exit)})
			continue
		}
		i := site.Instance{Workspace: id, Running: c.State == "running", Digest: c.Labels[labelDigest]}
		if s.cutOff(shares, id) {
			i.CutOff = "what joined it to the service was lost"
		}
		if ended == 1 {
			i.Ended = fmt.Sprintf("exit status %d", exit)
		}
		list = append(list, i)
	}
	for i := range list {
		list[i].Services = beside[list[i].Workspace]
	}
	return list, nil
}

// containers lists the containers of a workspace, or of all, without those that were set
// aside and those that came through the door.
func (s *Site) containers(ctx context.Context, workspace string) ([]container.Summary, error) {
	list, err := s.ownContainers(ctx, workspace, false)
	if err != nil {
		return nil, s.explain(err, "list the workspaces' containers")
	}
	return slices.DeleteFunc(list, func(c container.Summary) bool {
		return c.Labels[door.Label] != "" || len(c.Names) == 0 || strings.HasSuffix(c.Names[0], aside) || strings.HasSuffix(c.Names[0], filling)
	}), nil
}
