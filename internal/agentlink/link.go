// Package agentlink is the service's end of a connection to an agent: SSH's channels and requests over
// whatever stream a site gives, and the few calls that are Domicile's own.
package agentlink

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/fault"
	"domicile/internal/handed"
	"domicile/internal/splice"
	"domicile/internal/visible"
)

// handshakeLimit bounds the first words with an agent.
const handshakeLimit = 10 * time.Second

// Link is a connection to an agent.
type Link struct {
	connection.Peer // what the agent opens and asks must be taken
	// Again opens another stream to the same agent. Nil: nobody can.
	Again func(context.Context) (net.Conn, error)
	// Place gives a place for something that the agent hands over; nil: there is none.
	Place func() *handed.Place

	key      ssh.Signer
	together atomic.Bool // all goes through this one
	used     use
}

// Open begins to speak with an agent over a stream. The agent knows the service by its key. On an error
// the stream is closed.
func Open(ctx context.Context, stream net.Conn, key ssh.Signer) (*Link, error) {
	ctx, cancel := context.WithTimeout(ctx, handshakeLimit)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	defer stop()
	_, near := connection.Socket(stream)
	peer, err := connection.Dial(stream, key)
	if err != nil {
		stream.Close()
		return nil, fault.Transient(err, "agent-unreachable", "", "the workspace's agent does not answer")
	}
	l := &Link{Peer: peer, key: key}
	l.Conn = sessions{peer.Conn, l}
	l.together.Store(!near)
	return l, nil
}

// Quiet services what the agent opens and asks by refusing it, for links that only call.
func (l *Link) Quiet() *Link {
	l.Peer.Quiet()
	return l
}

// Close ends the connection. What runs inside goes on.
func (l *Link) Close() error { return l.Conn.Close() }

// The limits of calls. An agent is root's in its workspace, who may have stopped it or put
// something in its place: one that does not answer in time is as good as gone.
const (
	callLimit = 10 * time.Second
	// configureLimit is longer: the person's shell is asked for its environment.
	configureLimit = 90 * time.Second
)

// call asks the agent. Where ctx ends, or the limit passes, the connection is closed: an SSH
// connection has no way to give up one request.
func (l *Link) call(ctx context.Context, limit time.Duration, name string, request, answer any) error {
	payload, err := json.Marshal(request)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	limited, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	stop := context.AfterFunc(limited, func() { l.Conn.Close() })
	defer stop()
	ok, b, err := l.Conn.SendRequest(name, true, payload)
	switch {
	case err != nil && ctx.Err() != nil:
		return fmt.Errorf("%s: %w", name, ctx.Err())
	case err != nil && limited.Err() != nil:
		return fault.Transient(nil, "agent-unreachable", "stop and start the workspace", "the workspace's agent did not answer %s within %s", name, limit)
	}
	if err != nil {
		return fault.Transient(err, "agent-unreachable", "", "the connection to the workspace's agent broke")
	}
	if !ok {
		return fault.New("agent-refused", "stop and start the workspace", "the workspace's agent does not know %s", name)
	}
	if err := json.Unmarshal(b, answer); err != nil {
		return fmt.Errorf("%s: read answer: %w", name, err)
	}
	return nil
}

// Hello asks the agent who it is.
func (l *Link) Hello(ctx context.Context) (wire.HelloReply, error) {
	var answer wire.HelloReply
	err := l.call(ctx, callLimit, wire.Hello, struct{}{}, &answer)
	return answer, err
}

// Configure tells the agent how programs run for the person.
func (l *Link) Configure(ctx context.Context, s wire.Session) (wire.SessionReply, error) {
	var answer wire.SessionReply
	if err := l.call(ctx, configureLimit, wire.Configure, s, &answer); err != nil {
		return answer, err
	}
	if answer.Error != "" {
		return answer, fault.New("bad-user", "correct remoteUser in the definition, or add the user to the image", "remoteUser: %s", answer.Error)
	}
	return answer, nil
}

// As has the programs of this connection run as another user of the container.
func (l *Link) As(ctx context.Context, user string) error {
	var answer wire.AsReply
	if err := l.call(ctx, configureLimit, wire.As, wire.AsRequest{User: user}, &answer); err != nil {
		return err
	}
	if answer.Error != "" {
		return fault.New("bad-user", "name one that the image has, or add it there", "there is nobody to come in as: %s", visible.Line(answer.Error, longestLine))
	}
	return nil
}

// From tells the agent where the person's connection comes from and where it arrived. No
// answer is waited for: an agent of an earlier version has none.
func (l *Link) From(client, server string) {
	payload, err := json.Marshal(wire.FromRequest{Client: client, Server: server})
	if err == nil {
		_, _, _ = l.Conn.SendRequest(wire.From, false, payload) // a broken connection is noticed by who uses it
	}
}

// Terminals lists the terminals that the agent keeps.
func (l *Link) Terminals(ctx context.Context) ([]wire.Terminal, error) {
	var list []wire.Terminal
	err := l.call(ctx, callLimit, wire.Terminals, struct{}{}, &list)
	for i := range list { // an agent may say anything
		list[i].Name, list[i].Command = visible.Line(list[i].Name, longestName), visible.Line(list[i].Command, longestLine)
	}
	return list, err
}

// Activity asks whether somebody or something uses the instance.
func (l *Link) Activity(ctx context.Context) (wire.ActivityReply, error) {
	var answer wire.ActivityReply
	err := l.call(ctx, callLimit, wire.Activity, struct{}{}, &answer)
	return answer, err
}

// End asks all programs of the workspace to end, and returns the names of those that have not after the grace period.
func (l *Link) End(ctx context.Context, grace time.Duration) ([]string, error) {
	var answer wire.EndReply
	err := l.call(ctx, grace+callLimit, wire.End, wire.EndRequest{GraceSeconds: grace.Seconds(), Everybody: true}, &answer)
	for i := range answer.Survivors {
		answer.Survivors[i] = visible.Line(answer.Survivors[i], longestLine)
	}
	return answer.Survivors[:min(len(answer.Survivors), mostSurvivors)], err
}

// filesLimit is how long noting or restoring of files may take.
const filesLimit = 10 * time.Minute

// NoteFiles notes what engines do not carry of files, before a workspace moves.
func (l *Link) NoteFiles(ctx context.Context, folders []string) (wire.FilesReply, error) {
	return l.files(ctx, wire.NoteFiles, folders)
}

// RestoreFiles restores what NoteFiles noted.
func (l *Link) RestoreFiles(ctx context.Context, folders []string) (wire.FilesReply, error) {
	return l.files(ctx, wire.RestoreFiles, folders)
}

func (l *Link) files(ctx context.Context, what string, folders []string) (wire.FilesReply, error) {
	var answer wire.FilesReply
	err := l.call(ctx, filesLimit, what, wire.FilesRequest{Folders: folders}, &answer)
	if err == nil && answer.Error != "" {
		err = errors.New(visible.Line(answer.Error, longestLine))
	}
	return answer, err
}

// mostSurvivors bounds how many names are taken: an agent may say anything.
const mostSurvivors = 30

// Tell writes a sentence into all open terminals.
func (l *Link) Tell(ctx context.Context, text string) error {
	return l.call(ctx, callLimit, wire.Tell, wire.Message{Text: text}, &struct{}{})
}

// Helpers lets ssh inside find the workspace's helpers by their names, and prove by a key
// whose it is. Addresses are those that must be told, by name.
func (l *Link) Helpers(ctx context.Context, names []string, addresses map[string]string, key string) error {
	var answer wire.HelpersReply
	err := l.call(ctx, callLimit, wire.Helpers, wire.HelpersRequest{Names: names, Addresses: addresses, Key: key}, &answer)
	if err == nil && answer.Error != "" {
		err = fault.New("helpers-unknown", "", "the workspace cannot be told of its helpers: %s", answer.Error)
	}
	return err
}

// ExitError is the end of a program other than by exit status 0.
type ExitError struct {
	Status int    // -1: by a signal
	Signal string // without SIG; empty: by its own exit
}

// Shell is the exit status as a shell tells it: 128 and the number of the signal where it was one.
func (e *ExitError) Shell() int {
	if e.Signal != "" {
		return 128 + int(unix.SignalNum("SIG"+e.Signal))
	}
	return e.Status
}

func (e *ExitError) Error() string {
	if e.Signal != "" {
		return "ended by signal " + e.Signal
	}
	return fmt.Sprintf("exit status %d", e.Status)
}

// Task runs a command that outlives the connection, or attaches to the one that has the
// same key, and copies its output to out. The error is an *ExitError where the command
// ended badly; it is transient where the connection broke: call again with the same key.
func (l *Link) Task(ctx context.Context, q wire.TaskRequest, out io.Writer) error {
	channel, requests, err := l.open(ctx, wire.Task, q)
	if err != nil {
		return err
	}
	defer channel.Close()
	stop := context.AfterFunc(ctx, func() { channel.Close() })
	defer stop()
	end := exitOf(requests)
	if _, err := io.Copy(out, channel); err != nil {
		return fmt.Errorf("read output: %w", err)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return <-end
}

// Put unpacks a tar archive below a folder, owned by the session's user.
func (l *Link) Put(ctx context.Context, target string, archive io.Reader) error {
	channel, requests, err := l.open(ctx, wire.Unpack, wire.UnpackRequest{Target: target})
	if err != nil {
		return err
	}
	defer channel.Close()
	stop := context.AfterFunc(ctx, func() { channel.Close() })
	defer stop()
	end := exitOf(requests)
	said := make(chan []byte, 1)
	go func() {
		b, _ := io.ReadAll(io.LimitReader(channel.Stderr(), 4096))
		said <- b
	}()
	copyErr := splice.Copy(channel, archive)
	if copyErr != nil {
		channel.Close()
	} else if err := channel.CloseWrite(); err != nil {
		copyErr = err
	}
	text, err := <-said, <-end
	var exit *ExitError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &exit) && exit.Status == 28:
		return fault.New("disk-full", "free space on the site's disk, then provision again: it goes on from here", "the disk is full: %s", text)
	case errors.As(err, &exit) && len(text) > 0:
		return fault.New("put-failed", "", "the workspace could not take the source: %s", text)
	case copyErr != nil:
		return fault.Transient(copyErr, "agent-unreachable", "", "the connection to the workspace broke while the source was put in")
	}
	return err
}

func (l *Link) open(ctx context.Context, kind string, request any) (connection.Channel, connection.Requests, error) {
	extra, err := json.Marshal(request)
	if err != nil {
		return nil, nil, err
	}
	return l.openWith(ctx, kind, extra)
}

func (l *Link) openWith(ctx context.Context, kind string, extra []byte) (connection.Channel, connection.Requests, error) {
	channel, requests, err := l.ask(ctx, kind, extra)
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) {
		err = fault.New("agent-refused", "", "the workspace's agent refused: %s", refused.Message)
	}
	return channel, requests, err
}

// ask opens a channel; that the agent refuses it is an *ssh.OpenChannelError.
func (l *Link) ask(ctx context.Context, kind string, extra []byte) (connection.Channel, connection.Requests, error) {
	limited, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	stop := context.AfterFunc(limited, func() { l.Conn.Close() })
	defer stop()
	channel, requests, err := l.Conn.OpenChannel(kind, extra)
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) {
		return nil, nil, refused
	}
	if err != nil {
		return nil, nil, fault.Transient(err, "agent-unreachable", "", "the connection to the workspace's agent broke")
	}
	return channel, requests, nil
}

// exitOf waits for how a program ended (RFC 4254, section 6.10).
func exitOf(requests connection.Requests) <-chan error {
	end := make(chan error, 1)
	go func() {
		err := error(fault.Transient(io.ErrUnexpectedEOF, "agent-unreachable", "", "the connection to the workspace's agent broke before the command ended"))
		for r := range requests {
			var status struct{ Status uint32 }
			var signal struct {
				Name string
				Rest []byte `ssh:"rest"`
			}
			switch {
			case r.Type == "exit-status" && ssh.Unmarshal(r.Payload, &status) == nil && status.Status == 0:
				err = nil
			case r.Type == "exit-status" && ssh.Unmarshal(r.Payload, &status) == nil:
				err = &ExitError{Status: int(status.Status)}
			case r.Type == "exit-signal" && ssh.Unmarshal(r.Payload, &signal) == nil:
				err = &ExitError{Status: -1, Signal: signal.Name}
			}
			if r.WantReply {
				_ = r.Reply(false, nil)
			}
		}
		end <- err
	}()
	return end
}
