package engine

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"path/filepath"
	"time"

	"github.com/docker/docker/api/types"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/pkg/stdcopy"

	"domicile/internal/agent/wire"
	"domicile/internal/beneath"
	"domicile/internal/connection"
	"domicile/internal/fault"
)

// Connect opens a stream to the agent: through the socket in the folder that host and
// container share, or through an exec of the agent's bridge.
func (s *Site) Connect(ctx context.Context, workspace string) (net.Conn, error) {
	conn, err := s.stream(ctx, workspace)
	if err == nil && s.o.Private {
		conn = connection.Private(conn)
	}
	return conn, err
}

func (s *Site) stream(ctx context.Context, workspace string) (net.Conn, error) {
	shares, err := s.sharesFolder(ctx)
	if err != nil {
		return nil, err
	}
	if shares {
		return dialShared(ctx, s.socketFolder(workspace), filepath.Base(wire.SocketPath))
	}
	if s.o.Agent == nil {
		return s.bridge(ctx, workspace)
	}
	conn, err := s.greeted(ctx, workspace)
	if err == nil {
		return conn, nil
	}
	there, inspectErr := s.api.ContainerInspect(ctx, s.name(workspace))
	if inspectErr == nil && there.Config.Labels[labelAgentFolder] == "" { // it was made by an earlier version
		return s.bridge(ctx, workspace)
	}
	return nil, notListening(err)
}

// greeted opens a stream to an agent that greets: nobody else says whether there is one.
func (s *Site) greeted(ctx context.Context, workspace string) (net.Conn, error) {
	conn, err := s.o.Agent(ctx, workspace)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	first := make([]byte, 1)
	_ = conn.SetReadDeadline(time.Now().Add(greetLimit))
	if _, err := io.ReadFull(conn, first); err != nil {
		conn.Close()
		return nil, err
	}
	_ = conn.SetReadDeadline(time.Time{})
	return connection.Begun(conn, io.MultiReader(bytes.NewReader(first), conn), 0), nil
}

// greetLimit bounds how long an agent takes to greet.
const greetLimit = 20 * time.Second

// agentAnswers tells whether an agent greets, as an SSH server does unasked.
func (s *Site) agentAnswers(ctx context.Context, workspace string) bool {
	conn, err := s.Connect(ctx, workspace)
	if err != nil {
		return false
	}
	defer conn.Close()
	greeting := make([]byte, 4)
	_, err = io.ReadFull(conn, greeting)
	return err == nil && string(greeting) == "SSH-"
}

// dialShared connects to a socket in a folder that the workspace's root can write to.
func dialShared(ctx context.Context, folder, name string) (net.Conn, error) {
	conn, err := beneath.Dial(ctx, folder, name)
	if errors.Is(err, beneath.ErrReplaced) {
		return nil, fault.Wrap(err, "agent-replaced", "stop and start the workspace", "where the agent's socket should be is something else")
	}
	if err != nil {
		return nil, notListening(err)
	}
	return conn, nil
}

func notListening(err error) error {
	return fault.Transient(err, "agent-unreachable", "", "the workspace's agent does not answer")
}

func (s *Site) bridge(ctx context.Context, workspace string) (net.Conn, error) {
	e, err := s.api.ContainerExecCreate(ctx, s.name(workspace), container.ExecOptions{User: "0:0", Cmd: []string{wire.AgentPath, "bridge"},
		AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return nil, notListening(s.explain(err, "reach the agent"))
	}
	stream, err := s.api.ContainerExecAttach(ctx, e.ID, container.ExecAttachOptions{})
	if err != nil {
		return nil, notListening(s.explain(err, "reach the agent"))
	}
	return newBridged(stream), nil
}

// bridged is an exec stream as a net.Conn: the engine's frames are taken off, and what
// the bridge says on standard error becomes the reading side's error.
type bridged struct {
	stream types.HijackedResponse
	out    *io.PipeReader
}

func newBridged(stream types.HijackedResponse) *bridged {
	out, w := io.Pipe()
	go func() {
		said := &firstLine{}
		_, err := stdcopy.StdCopy(w, said, stream.Reader)
		if err == nil && len(said.text) > 0 {
			err = notListening(errors.New(string(said.text)))
		}
		w.CloseWithError(err)
	}()
	return &bridged{stream, out}
}

type firstLine struct{ text []byte }

func (f *firstLine) Write(p []byte) (int, error) {
	if len(f.text) < 1024 {
		f.text = append(f.text, p...)
	}
	return len(p), nil
}

func (b *bridged) Read(p []byte) (int, error)  { return b.out.Read(p) }
func (b *bridged) Write(p []byte) (int, error) { return b.stream.Conn.Write(p) }
func (b *bridged) Close() error {
	b.stream.Close()
	return b.out.Close()
}
func (b *bridged) LocalAddr() net.Addr                { return b.stream.Conn.LocalAddr() }
func (b *bridged) RemoteAddr() net.Addr               { return b.stream.Conn.RemoteAddr() }
func (b *bridged) SetDeadline(t time.Time) error      { return b.stream.Conn.SetDeadline(t) }
func (b *bridged) SetReadDeadline(t time.Time) error  { return b.stream.Conn.SetReadDeadline(t) }
func (b *bridged) SetWriteDeadline(t time.Time) error { return b.stream.Conn.SetWriteDeadline(t) }
