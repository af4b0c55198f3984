package agentlink

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
	"domicile/internal/fault"
)

// agent is what root of a workspace may have put in the agent's place.
type agent linktest.Agent

// linked opens a link to an agent.
func (a agent) linked(t *testing.T) *Link {
	t.Helper()
	l, err := Open(t.Context(), linktest.Agent(a).Stream(t), linktest.Signer(t))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l.Quiet()
}

// Whoever is silent is given up in time, whatever was asked; the fault says so and may pass.
func TestASilentAgent(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		near, far := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		begun := time.Now()
		_, err := Open(t.Context(), near, linktest.Signer(t))
		assert.Equal(t, "agent-unreachable", fault.Code(err), "%v", err)
		assert.True(t, fault.IsTransient(err))
		assert.Equal(t, handshakeLimit, time.Since(begun))
		far.Close()
	})
	for name, call := range map[string]func(context.Context, *Link) error{
		"hello":     func(ctx context.Context, l *Link) error { _, err := l.Hello(ctx); return err },
		"terminals": func(ctx context.Context, l *Link) error { _, err := l.Terminals(ctx); return err },
		"tell":      func(ctx context.Context, l *Link) error { return l.Tell(ctx, "the tide turns") },
		"task": func(ctx context.Context, l *Link) error {
			return l.Task(ctx, wire.TaskRequest{Key: "k", Shell: "true"}, io.Discard)
		},
		"put": func(ctx context.Context, l *Link) error { return l.Put(ctx, "/src", strings.NewReader("")) },
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				l := agent{}.linked(t)
				begun := time.Now()
				err := call(t.Context(), l)
				assert.Equal(t, "agent-unreachable", fault.Code(err), "%v", err)
				assert.True(t, fault.IsTransient(err))
				assert.Equal(t, callLimit, time.Since(begun))
			})
		})
	}
}

// What greets with anything but SSH, or ends at once, is no agent.
func TestWhatIsNoAgent(t *testing.T) {
	for name, says := range map[string]string{"nothing": "", "the web": "HTTP/1.1 200 OK\r\n\r\n", "a flood": strings.Repeat("tide", 100_000), "an old one": "SSH-1.5-reef\r\n"} {
		t.Run(name, func(t *testing.T) {
			near, far := net.Pipe()
			go func() { _, _ = io.Copy(io.Discard, far) }()
			go func() {
				_, _ = io.WriteString(far, says)
				far.Close()
			}()
			_, err := Open(t.Context(), near, linktest.Signer(t))
			assert.Equal(t, "agent-unreachable", fault.Code(err), "%v", err)
		})
	}
}

// An agent that answers wrongly is told of as such, and nothing it says is taken for more.
func TestABrokenAgent(t *testing.T) {
	refusing := agent{Requests: func(r *connection.Request) { _ = r.Reply(false, nil) }, Channels: func(c connection.NewChannel) { _ = c.Reject(ssh.Prohibited, "no room") }}
	l := refusing.linked(t)
	_, err := l.Hello(t.Context())
	assert.Equal(t, "agent-refused", fault.Code(err))
	assert.ErrorContains(t, l.Task(t.Context(), wire.TaskRequest{}, io.Discard), "no room")

	nonsense := agent{Requests: func(r *connection.Request) { _ = r.Reply(true, []byte("{tide")) }}
	_, err = nonsense.linked(t).Hello(t.Context())
	assert.ErrorContains(t, err, "read answer")

	wrongUser := agent{Requests: func(r *connection.Request) {
		b, _ := json.Marshal(wire.SessionReply{Error: "there is no user nobody-here"})
		_ = r.Reply(true, b)
	}}
	_, err = wrongUser.linked(t).Configure(t.Context(), wire.Session{})
	assert.Equal(t, "bad-user", fault.Code(err))
}

// A command's end is told as what it was; without an end the connection is what broke.
func TestHowACommandEnds(t *testing.T) {
	ends := func(finish func(connection.Channel)) agent {
		return agent{Channels: func(c connection.NewChannel) {
			channel, requests, err := c.Accept()
			if err != nil {
				return
			}
			go connection.Discard(requests)
			_, _ = io.WriteString(channel, "said")
			finish(channel)
			channel.Close()
		}}
	}
	var exit *ExitError
	for name, c := range map[string]struct {
		finish func(connection.Channel)
		check  func(*testing.T, error)
	}{
		"well": {func(c connection.Channel) {
			_, _ = c.SendRequest("exit-status", false, ssh.Marshal(struct{ S uint32 }{0}))
		}, func(t *testing.T, err error) { assert.NoError(t, err) }},
		"badly": {func(c connection.Channel) {
			_, _ = c.SendRequest("exit-status", false, ssh.Marshal(struct{ S uint32 }{3}))
		}, func(t *testing.T, err error) { require.ErrorAs(t, err, &exit); assert.Equal(t, 3, exit.Status) }},
		"by a signal": {func(c connection.Channel) {
			_, _ = c.SendRequest("exit-signal", false, ssh.Marshal(struct {
				N    string
				C    bool
				M, L string
			}{"KILL", false, "", ""}))
		}, func(t *testing.T, err error) {
			require.ErrorAs(t, err, &exit)
			assert.Equal(t, "ended by signal KILL", exit.Error())
		}},
		"half said":  {func(c connection.Channel) { _, _ = c.SendRequest("exit-status", false, []byte{1}) }, func(t *testing.T, err error) { assert.True(t, fault.IsTransient(err)) }},
		"not at all": {func(connection.Channel) {}, func(t *testing.T, err error) { assert.True(t, fault.IsTransient(err)) }},
	} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			c.check(t, ends(c.finish).linked(t).Task(t.Context(), wire.TaskRequest{Key: "k"}, &out))
			assert.Equal(t, "said", out.String())
		})
	}
}

// A terminal that is not given in time is given up.
func TestATerminalThatIsNotGiven(t *testing.T) {
	service := linktest.Signer(t)
	l, err := Open(t.Context(), linktest.Agent{Channels: func(c connection.NewChannel) { _, _, _ = c.Accept() }}.Private(t, service.PublicKey()), service)
	require.NoError(t, err)
	defer l.Quiet().Close()
	ctx, cancel := context.WithCancel(t.Context())
	given := make(chan error)
	go func() { _, err := l.Terminal(ctx, "work", 80, 24); given <- err }()
	cancel()
	assert.Error(t, <-given)
}

// Who is no longer waited for is left at once.
func TestACallThatIsGivenUp(t *testing.T) {
	l := agent{}.linked(t)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := l.Hello(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}
