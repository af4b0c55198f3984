package agentlink

import (
	"context"
	"encoding/json"
	"errors"
	"io"

	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/fault"
)

// Terminal is a terminal inside, with the person's shell in it.
type Terminal struct {
	connection.Channel
	end <-chan error
}

// Terminal opens a terminal of a size in characters. One with a name goes on when the link ends, and
// the same name comes back to it.
func (l *Link) Terminal(ctx context.Context, name string, columns, rows int) (*Terminal, error) {
	channel, requests, err := l.openWith(ctx, "session", nil)
	if err != nil {
		return nil, err
	}
	t := &Terminal{channel, exitOf(requests)}
	limited, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	stop := context.AfterFunc(limited, func() { channel.Close() })
	defer stop()
	// RFC 4254, sections 6.2, 6.4, 6.5.
	if name != "" {
		err = t.ask("env", ssh.Marshal(struct{ Name, Value string }{wire.TerminalName, name}))
	}
	if err == nil {
		err = t.ask("pty-req", ssh.Marshal(struct {
			Term                         string
			Columns, Rows, Width, Height uint32
			Modes                        string
		}{"xterm-256color", uint32(columns), uint32(rows), 0, 0, "\x00"}))
	}
	if err == nil {
		err = t.ask("shell", nil)
	}
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		err = fault.Transient(nil, "agent-unreachable", "stop and start the workspace", "the workspace's agent did not give a terminal within %s", callLimit)
	}
	if err != nil {
		channel.Close()
		return nil, err
	}
	return t, nil
}

func (t *Terminal) ask(what string, payload []byte) error {
	ok, err := t.SendRequest(what, true, payload)
	if err == nil && !ok {
		err = errors.New("the workspace's agent refuses the request " + what)
	}
	return err
}

// Looked is a terminal that somebody looks at: what it prints, and its sizes.
type Looked struct {
	io.Reader
	channel connection.Channel
	end     <-chan error
	sizes   chan wire.WindowSize
}

// Look shows what a terminal that is open prints, from what is kept of it on.
func (l *Link) Look(ctx context.Context, name string) (*Looked, error) {
	extra, err := json.Marshal(wire.LookRequest{Terminal: name})
	if err != nil {
		return nil, err
	}
	channel, requests, err := l.ask(ctx, wire.Look, extra)
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) {
		if refused.Reason == ssh.UnknownChannelType {
			return nil, fault.New("older-agent", "stop and start the workspace", "the workspace's agent is of an earlier version, which shows its terminals to nobody who only looks")
		}
		return nil, fault.New("no-terminal", "domicile shell NAME -list tells which are open", "no terminal %q is open", name)
	}
	if err != nil {
		return nil, err
	}
	k := &Looked{Reader: channel, channel: channel, sizes: make(chan wire.WindowSize, 1)}
	k.end = exitOf(func(yield func(*connection.Request) bool) {
		for r := range requests {
			var size wire.WindowSize
			if r.Type != wire.LookSize {
				if !yield(r) {
					return
				}
				continue
			}
			if ssh.Unmarshal(r.Payload, &size) == nil {
				select { // the last one counts
				case <-k.sizes:
				default:
				}
				k.sizes <- size
			}
		}
	})
	return k, nil
}

// Sizes are the terminal's size, in characters, and each change of it; some may be left out.
func (k *Looked) Sizes() <-chan wire.WindowSize { return k.sizes }

// Wait waits for the end of the program in it; the error is an *ExitError where it ended badly.
func (k *Looked) Wait() error { return <-k.end }

// Close ends the looking.
func (k *Looked) Close() error { return k.channel.Close() }

// WriteTo prints all that comes, to the end. An agent hands over only what is printed so.
func (t *Terminal) WriteTo(w io.Writer) (int64, error) { return io.Copy(w, t.Channel) }

// Resize changes the size, in characters (section 6.7).
func (t *Terminal) Resize(columns, rows int) error {
	_, err := t.SendRequest("window-change", false, ssh.Marshal(struct{ Columns, Rows, Width, Height uint32 }{uint32(columns), uint32(rows), 0, 0}))
	return err
}

// Wait waits for the end of the program in it; the error is an *ExitError where it ended badly.
func (t *Terminal) Wait() error { return <-t.end }
