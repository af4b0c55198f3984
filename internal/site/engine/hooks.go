package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/pkg/stdcopy"

	"domicile/internal/fault"
	"domicile/internal/plan"
)

// hookLimit is how long a command of post_start has: what goes on for longer is a service of
// its own.
const hookLimit = 5 * time.Minute

// mostSaid bounds what is kept of a hook's output, in bytes.
const mostSaid = 4 << 10

// begin starts a service's container and runs its hooks. One whose hooks did not succeed is
// stopped again, so that the next start runs them: it must not count as started.
func (s *Site) begin(ctx context.Context, name string, start func() error) error {
	if err := start(); err != nil {
		return err
	}
	err := s.runHooks(ctx, name)
	if err != nil {
		now := 0
		_ = s.api.ContainerStop(context.WithoutCancel(ctx), name, container.StopOptions{Timeout: &now}) // why it failed is told
	}
	return err
}

// runHooks runs the commands that a service has for when it was started, one after the
// other. They stand in a label that only this site sets.
func (s *Site) runHooks(ctx context.Context, name string) error {
	there, err := s.api.ContainerInspect(ctx, name)
	if err != nil {
		return s.explain(err, "look at a service's container")
	}
	label := there.Config.Labels[labelHooks]
	if label == "" {
		return nil
	}
	var hooks []plan.Hook
	if err := json.Unmarshal([]byte(label), &hooks); err != nil {
		return fmt.Errorf("read the commands of post_start: %w", err)
	}
	for _, h := range hooks {
		if err := s.runHook(ctx, name, h); err != nil {
			return err
		}
	}
	return nil
}

func (s *Site) runHook(ctx context.Context, name string, h plan.Hook) error {
	ctx, cancel := context.WithTimeout(ctx, hookLimit)
	defer cancel()
	words := strings.Join(h.Command, " ")
	doing := "run a command of post_start (" + words + ")"
	made, err := s.api.ContainerExecCreate(ctx, name, container.ExecOptions{Cmd: h.Command, User: h.User, WorkingDir: h.Folder, Env: environment(h.Env), Privileged: h.Privileged, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return s.explain(err, doing)
	}
	stream, err := s.api.ContainerExecAttach(ctx, made.ID, container.ExecAttachOptions{})
	if err != nil {
		return s.explain(err, doing)
	}
	defer stream.Close()
	stop := context.AfterFunc(ctx, stream.Close) // the stream itself knows no limit
	defer stop()
	said := &beginning{}
	_, err = stdcopy.StdCopy(said, said, stream.Reader)
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fault.New("service-failed", "correct the command in the Compose file, or make it a service", "a command of post_start did not end within %s: %s", hookLimit, words)
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return s.explain(err, doing)
	}
	ended, err := s.api.ContainerExecInspect(ctx, made.ID)
	if err != nil {
		return s.explain(err, doing)
	}
	if ended.ExitCode != 0 {
		return fault.New("service-failed", "correct the command in the Compose file", "a command of post_start ended with exit status %d: %s: %.300s", ended.ExitCode, words, strings.TrimSpace(said.String()))
	}
	return nil
}

// beginning keeps the beginning of what is written, and takes all.
type beginning struct{ bytes.Buffer }

func (b *beginning) Write(p []byte) (int, error) {
	b.Buffer.Write(p[:min(len(p), max(mostSaid-b.Len(), 0))])
	return len(p), nil
}
