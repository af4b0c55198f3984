package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	cerrdefs "github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/versions"
	"github.com/docker/docker/pkg/stdcopy"

	"domicile/internal/agent/wire"
	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/site"
)

// labelService marks the containers of services beside a workspace.
const labelService = "domicile.service"

func (s *Site) serviceName(workspace, service string) string {
	return s.name(workspace) + "-" + service
}

func (s *Site) networkName(workspace, network string) string {
	return s.name(workspace) + "-" + network
}

// EnsureService makes a service's container, stopped. One of the same digest stays.
func (s *Site) EnsureService(ctx context.Context, workspace, digest string, judged plan.Judged[plan.Service], source string) error {
	v := judged.Value()
	name := s.serviceName(workspace, v.Name)
	there, err := s.api.ContainerInspect(ctx, name)
	if err == nil {
		if there.Config.Labels[labelDigest] == digest {
			return s.attachMore(ctx, workspace, there.ID, v.Networks)
		}
		if err := s.api.ContainerRemove(ctx, there.ID, container.RemoveOptions{Force: true}); err != nil && !isNotFound(err) {
			return s.explain(err, "remove the earlier container of "+v.Name)
		}
	} else if !isNotFound(err) {
		return s.explain(err, "look for the service "+v.Name)
	}
	image := s.local(v.Image)
	if v.Saved != "" {
		image = s.local(v.Saved)
	}
	config := &container.Config{Image: image, Hostname: v.Hostname, User: v.User, WorkingDir: v.Folder, Cmd: v.Command, Entrypoint: v.Entrypoint, Env: environment(v.Env), Labels: s.labels(workspace), StopSignal: v.StopSignal}
	config.Labels[labelService], config.Labels[labelDigest] = v.Name, digest
	if len(v.Hooks) > 0 {
		hooks, err := json.Marshal(v.Hooks)
		if err != nil {
			return fmt.Errorf("keep the commands of post_start: %w", err)
		}
		config.Labels[labelHooks] = string(hooks)
	}
	if h := v.Health; h != nil {
		config.Healthcheck = &container.HealthConfig{Test: h.Test, Interval: h.Interval, Timeout: h.Timeout, StartPeriod: h.StartPeriod, Retries: h.Retries}
	}
	if v.Grace > 0 {
		seconds := int(v.Grace.Seconds())
		config.StopTimeout = &seconds
	}
	host := &container.HostConfig{RestartPolicy: restartPolicy(v.Restart)}
	if v.Init {
		host.Init = &v.Init
	}
	if _, err := s.isLocal(ctx); err != nil {
		return err
	}
	if v.Mounts, err = s.foldersOf(workspace, v.Mounts, config); err != nil {
		return err
	}
	if err := s.settings(workspace, v.Settings, host); err != nil {
		return err
	}
	s.boundMemory(host, 0)
	if err := s.ensureAgent(ctx, image); err != nil {
		return err
	}
	host.Mounts = append(host.Mounts, mount.Mount{Type: mount.TypeVolume, Source: s.agentVolume(), Target: wire.AgentFolder, ReadOnly: true})
	networks := s.attach(workspace, v.Networks, host)
	if host.NetworkMode == "" {
		own, err := s.ensureNetwork(ctx)
		if err != nil {
			return err
		}
		host.NetworkMode = container.NetworkMode(own)
	}
	onAnothers(config, host)
	s.hardware(config, v.Networks)
	made, err := s.make(ctx, config, host, networks, name, v.Saved)
	if cerrdefs.IsConflict(err) { // another one makes it at this moment, who has lost the run since
		return fault.Transient(err, "made-twice", "", "another container is being made for the service %s at this moment", v.Name)
	}
	if err != nil {
		return s.explain(err, "make the container of the service "+v.Name)
	}
	if err := s.attachMore(ctx, workspace, made, v.Networks); err != nil {
		return err
	}
	if v.Saved != "" {
		return nil // its files are in the snapshot
	}
	return s.putFiles(ctx, made, v.Mounts, source)
}

// foldersOf makes mounts of the folder that is a workspace's source what an engine takes.
func (s *Site) foldersOf(workspace string, mounts []plan.Mount, config *container.Config) (_ []plan.Mount, err error) {
	mounts = slices.Clone(mounts)
	for i, m := range mounts {
		if m.Type == judge.MountFolder {
			if mounts[i].Source, err = s.mountedFolder(workspace, m.Source); err != nil {
				return nil, err
			}
			mounts[i].Type = "bind"
			config.Labels[labelFolder] = m.Source
		}
	}
	return mounts, nil
}

// restartPolicy reads "on-failure:3".
func restartPolicy(text string) container.RestartPolicy {
	name, times, _ := strings.Cut(text, ":")
	n, _ := strconv.Atoi(times) // it was judged
	return container.RestartPolicy{Name: container.RestartPolicyMode(name), MaximumRetryCount: n}
}

// attach puts a container on its first network; an engine takes only one at creation.
func (s *Site) attach(workspace string, list []plan.Attachment, host *container.HostConfig) *network.NetworkingConfig {
	if len(list) == 0 || host.NetworkMode != "" {
		return nil
	}
	first := s.networkName(workspace, list[0].Network)
	host.NetworkMode = container.NetworkMode(first)
	return &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{first: s.endpoint(list[0])}}
}

// macPerNetwork is the first version of the engine's API in which each network of a container
// has a hardware address; before, the first one's is the container's.
const macPerNetwork = "1.44"

// hardware gives the first network's hardware address to an engine that knows it so.
func (s *Site) hardware(config *container.Config, list []plan.Attachment) {
	if len(list) > 0 && versions.LessThan(s.api.ClientVersion(), macPerNetwork) {
		config.MacAddress = list[0].MAC //lint:ignore SA1019 engines before that version know no other
	}
}

// endpoint is how a container is on a network.
func (s *Site) endpoint(a plan.Attachment) *network.EndpointSettings {
	e := &network.EndpointSettings{Aliases: a.Aliases}
	if !versions.LessThan(s.api.ClientVersion(), macPerNetwork) {
		e.MacAddress = a.MAC
	}
	if a.IPv4 != "" || a.IPv6 != "" {
		e.IPAMConfig = &network.EndpointIPAMConfig{IPv4Address: a.IPv4, IPv6Address: a.IPv6}
	}
	return e
}

func (s *Site) attachMore(ctx context.Context, workspace, id string, list []plan.Attachment) error {
	for i, a := range list {
		if i == 0 {
			continue
		}
		err := s.api.NetworkConnect(ctx, s.networkName(workspace, a.Network), id, s.endpoint(a))
		if err != nil && !isConnected(err) {
			return s.explain(err, "connect to the network "+a.Network)
		}
	}
	return nil
}

// putFiles copies files of the repository to where a service wants to see them.
func (s *Site) putFiles(ctx context.Context, id string, mounts []plan.Mount, source string) error {
	if !slices.ContainsFunc(mounts, func(m plan.Mount) bool { return m.Type == "file" }) {
		return nil
	}
	root, err := os.OpenRoot(source)
	if err != nil {
		return fmt.Errorf("open the source: %w", err)
	}
	defer root.Close()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, m := range mounts {
		if m.Type != "file" {
			continue
		}
		if err := addTree(w, root, m.Source, strings.TrimPrefix(path.Clean(m.Target), "/")); err != nil {
			return fault.Wrap(err, "not-carried-out", "correct the path in the Compose file", "cannot copy %s of the repository to %s", m.Source, m.Target)
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return s.explain(s.api.CopyToContainer(ctx, id, "/", &b, container.CopyToContainerOptions{}), "copy files into a service's container")
}

func addTree(w *tar.Writer, root *os.Root, from, to string) error {
	return fs.WalkDir(root.FS(), from, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		target := path.Join(to, strings.TrimPrefix(name, from))
		switch {
		case d.IsDir():
			return w.WriteHeader(&tar.Header{Name: target + "/", Typeflag: tar.TypeDir, Mode: 0o755})
		case !info.Mode().IsRegular():
			return nil
		}
		content, err := root.ReadFile(name)
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{Name: target, Typeflag: tar.TypeReg, Mode: int64(info.Mode().Perm() | 0o444), Size: int64(len(content))}); err != nil {
			return err
		}
		_, err = w.Write(content)
		return err
	})
}

// StartService starts a service's container; one that runs stays as it is.
func (s *Site) StartService(ctx context.Context, workspace, service string) error {
	name := s.serviceName(workspace, service)
	if err := s.ensureView(ctx, workspace, name); err != nil {
		return err
	}
	there, err := s.api.ContainerInspect(ctx, name)
	if err != nil {
		return s.explain(err, "look for the service "+service)
	}
	if there.State.Running {
		return nil
	}
	return s.begin(ctx, name, func() error {
		s.borderFirst(ctx)
		return s.explain(s.api.ContainerStart(ctx, name, container.StartOptions{}), "start the service "+service)
	})
}

// RestartService stops and starts a service's container.
func (s *Site) RestartService(ctx context.Context, workspace, service string) error {
	name := s.serviceName(workspace, service)
	return s.begin(ctx, name, func() error {
		return s.explain(s.api.ContainerRestart(ctx, name, container.StopOptions{}), "restart the service "+service)
	})
}

// What the agent takes in a service is the service's: one that may have less than this is not looked
// into.
const (
	leastMemory    = 64 << 20
	leastProcesses = 64
)

// ServiceListens opens a stream that tells what listens in a service. Its container has the agent,
// read-only; one that an earlier version made has not.
func (s *Site) ServiceListens(ctx context.Context, workspace, service string) (io.ReadCloser, error) {
	there, err := s.api.ContainerInspect(ctx, s.serviceName(workspace, service))
	if err != nil {
		return nil, s.explain(err, "look for the service "+service)
	}
	if r := there.HostConfig.Resources; r.Memory > 0 && r.Memory < leastMemory || r.PidsLimit != nil && *r.PidsLimit > 0 && *r.PidsLimit < leastProcesses {
		return nil, fault.New("site-cannot", "give it more memory and processes in the Compose file", "the service %s may take too little for anybody to look into it", service)
	}
	e, err := s.api.ContainerExecCreate(ctx, s.serviceName(workspace, service), container.ExecOptions{User: "0:0", Cmd: []string{wire.AgentPath, "listens"},
		AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return nil, s.explain(err, "see what listens in the service "+service)
	}
	stream, err := s.api.ContainerExecAttach(ctx, e.ID, container.ExecAttachOptions{})
	if err != nil {
		return nil, s.explain(err, "see what listens in the service "+service)
	}
	return newBridged(stream), nil
}

// Services tells how the services beside a workspace are.
func (s *Site) Services(ctx context.Context, workspace string) ([]site.Service, error) {
	list, err := s.containers(ctx, workspace)
	if err != nil {
		return nil, err
	}
	var out []site.Service
	for _, c := range list {
		if c.Labels[labelService] == "" {
			continue
		}
		i, err := s.api.ContainerInspect(ctx, c.ID)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return nil, s.explain(err, "look at the workspace's services")
		}
		v := site.Service{Name: c.Labels[labelService], Image: i.Config.Image, Running: i.State.Running, ExitCode: i.State.ExitCode, Started: i.State.StartedAt != "" && !strings.HasPrefix(i.State.StartedAt, "0001")}
		v.Interrupted = v.Started && !v.Running && wasInterrupted(v.ExitCode)
		if i.State.Health != nil {
			v.Health = string(i.State.Health.Status)
		}
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b site.Service) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// Worked adds up the processor time of the services that run.
func (s *Site) Worked(ctx context.Context, workspace string) (time.Duration, error) {
	list, err := s.containers(ctx, workspace)
	if err != nil {
		return 0, err
	}
	var sum time.Duration
	for _, c := range list {
		if c.Labels[labelService] == "" || c.State != container.StateRunning {
			continue
		}
		r, err := s.api.ContainerStatsOneShot(ctx, c.ID)
		if isNotFound(err) {
			continue
		}
		if err != nil {
			return 0, s.explain(err, "see how much the workspace's services work")
		}
		var stats container.StatsResponse
		err = json.NewDecoder(r.Body).Decode(&stats)
		r.Body.Close()
		if err != nil {
			return 0, fmt.Errorf("read how much the service %s works: %w", c.Labels[labelService], err)
		}
		sum += time.Duration(stats.CPUStats.CPUUsage.TotalUsage)
	}
	return sum, nil
}

// ServiceLog writes the last lines that a service printed.
func (s *Site) ServiceLog(ctx context.Context, workspace, service string, lines int, w io.Writer) error {
	r, err := s.api.ContainerLogs(ctx, s.serviceName(workspace, service), container.LogsOptions{ShowStdout: true, ShowStderr: true, Tail: fmt.Sprint(lines)})
	if isNotFound(err) {
		return fault.New("no-service", "domicile services lists them", "the workspace has no service %q", service)
	}
	if err != nil {
		return s.explain(err, "read the log of "+service)
	}
	defer r.Close()
	_, err = stdcopy.StdCopy(w, w, r)
	return err
}

func environment(env map[string]string) (list []string) {
	for name, value := range env {
		list = append(list, name+"="+value)
	}
	slices.Sort(list)
	return list
}
