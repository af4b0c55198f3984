package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/image"
	"github.com/docker/docker/api/types/network"

	"domicile/internal/agent"
	"domicile/internal/agent/wire"
)

// The trial of two networks: one program on each, and the one dials the other. It shows what
// rules only let one expect, and needs no rights on the engine's host.
const (
	trialEvery = time.Hour
	trialLimit = time.Minute
	trialImage = "domicile-trial"
)

// tryNetworks makes two networks as workspaces have them, with a program on each, and tells
// whether the one is reached from the other. All that it makes it takes away again.
func (s *Site) tryNetworks(ctx context.Context) (reached bool, err error) {
	s.o.Trials.Lock()
	defer s.o.Trials.Unlock()
	ctx, cancel := context.WithTimeout(ctx, trialLimit)
	defer cancel()
	var ends [2]string
	for i := range ends {
		name := fmt.Sprintf("%s-%d", s.trialOf(), i)
		if ends[i], err = s.oneNetwork(ctx, name, network.CreateOptions{Driver: "bridge", Labels: s.trialLabels()}); err != nil {
			return false, s.explain(err, "make a network to try")
		}
		defer func() { _ = s.removeNetwork(context.WithoutCancel(ctx), ends[i]) }()
	}
	return s.reaches(ctx, ends[0], ends[1])
}

// reaches tells whether a program on one network reaches one on another.
func (s *Site) reaches(ctx context.Context, from, to string) (bool, error) {
	image, err := s.trialImage(ctx)
	if err != nil {
		return false, err
	}
	stays, done, err := s.trialProgram(ctx, "stays", image, to, "stay")
	if err != nil {
		return false, err
	}
	defer done()
	told, err := s.api.ContainerInspect(ctx, stays)
	if err != nil {
		return false, s.explain(err, "find the address of a program to try")
	}
	var address string
	for _, n := range told.NetworkSettings.Networks {
		address = n.IPAddress
	}
	if address == "" {
		return false, errors.New("try two networks: the program to be reached has no address")
	}
	dials, done, err := s.trialProgram(ctx, "dials", image, from, "reach", address+":9")
	if err != nil {
		return false, err
	}
	defer done()
	ended, wrong := s.api.ContainerWait(ctx, dials, container.WaitConditionNotRunning)
	select {
	case e := <-ended:
		if e.StatusCode != 0 && e.StatusCode != agent.Unreached {
			return false, fmt.Errorf("try two networks: the program that dials ended with %d", e.StatusCode)
		}
		return e.StatusCode == 0, nil
	case err := <-wrong:
		return false, s.explain(err, "try two networks")
	}
}

// trialOf begins the names of what is made for a trial. They are the same for all sites that reach
// one engine, so that whoever tries next takes away what a killed service left.
func (s *Site) trialOf() string { return s.name("trial") }

// trialLabels say whose a trial is, and that it is no workspace's.
func (s *Site) trialLabels() map[string]string {
	return map[string]string{labelInstallation: s.o.Installation}
}

// trialProgram runs a command of the agent's on a network; done takes it away.
func (s *Site) trialProgram(ctx context.Context, role, image, network string, command ...string) (id string, done func(), err error) {
	name := s.trialOf() + "-" + role
	// One may be left from a service that was killed.
	if err := s.api.ContainerRemove(ctx, name, container.RemoveOptions{Force: true}); err != nil && !isNotFound(err) {
		return "", nil, s.explain(err, "remove an earlier program to try networks with")
	}
	made, err := s.api.ContainerCreate(ctx, &container.Config{Image: image, Cmd: append([]string{wire.AgentPath}, command...), Labels: s.trialLabels()},
		&container.HostConfig{NetworkMode: container.NetworkMode(network), CapDrop: []string{"ALL"}, ReadonlyRootfs: true, Resources: container.Resources{Ulimits: defaultLimits(nil)}}, nil, nil, name)
	if err != nil {
		return "", nil, s.explain(err, "make a program to try networks with")
	}
	done = func() {
		_ = s.api.ContainerRemove(context.WithoutCancel(ctx), made.ID, container.RemoveOptions{Force: true})
	}
	s.borderFirst(ctx)
	if err := s.api.ContainerStart(ctx, made.ID, container.StartOptions{}); err != nil {
		done()
		return "", nil, s.explain(err, "start a program to try networks with")
	}
	return made.ID, done, nil
}

// trialName is the name of the image with this version of the agent.
func (s *Site) trialName() string {
	return trialImage + ":" + s.hidden("trial", s.o.Installation, s.agentNow().digest)
}

// trialImage is an image with the agent alone. Those of earlier versions are left over.
func (s *Site) trialImage(ctx context.Context) (id string, err error) {
	name := s.trialName()
	if found, err := s.api.ImageInspect(ctx, name); err == nil {
		return found.ID, nil
	} else if !isNotFound(err) {
		return "", s.explain(err, "look for an image to try networks with")
	}
	said, err := s.api.ImageImport(ctx, image.ImportSource{Source: bytes.NewReader(s.agentNow().archiveAt(wire.AgentPath).Bytes()), SourceName: "-"}, name, image.ImportOptions{Changes: []string{"LABEL " + labelInstallation + "=" + s.o.Installation}})
	if err != nil {
		return "", s.explain(err, "bring an image to try networks with")
	}
	defer said.Close()
	if _, err := new(bytes.Buffer).ReadFrom(said); err != nil {
		return "", s.explain(err, "bring an image to try networks with")
	}
	found, err := s.api.ImageInspect(ctx, name)
	if err != nil {
		return "", s.explain(err, "look for an image to try networks with")
	}
	return found.ID, nil
}

// tryNow tries the networks beside other work, if that is due.
func (s *Site) tryNow() {
	s.mu.Lock()
	due := !s.trial.under && time.Since(s.trial.at) >= trialEvery
	s.trial.under = s.trial.under || due
	s.mu.Unlock()
	if !due {
		return
	}
	go func() {
		reached, err := s.tryNetworks(context.Background())
		s.mu.Lock()
		defer s.mu.Unlock()
		s.trial = trial{at: time.Now(), reached: reached && err == nil, failed: err}
	}()
}

// trial is what the last trial of two networks showed.
type trial struct {
	at      time.Time
	under   bool
	reached bool
	failed  error
}
