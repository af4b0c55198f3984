package agentlink

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink/linktest"
	"domicile/internal/connection"
	"domicile/internal/handed"
)

func bothWays(t *testing.T) *os.File {
	t.Helper()
	name := t.TempDir() + "/pipe"
	require.NoError(t, unix.Mkfifo(name, 0o600))
	f, err := os.OpenFile(name, os.O_RDWR, 0)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func grantBoth(a *connection.Alone, first, second *os.File) {
	_ = handed.WithDescriptor(first, func(one ...int) error {
		return handed.WithDescriptor(second, func(two ...int) error { return a.Grant(one[0], two[0]) })
	})
}

func count(a *connection.Alone, n uint64) {
	_, _ = a.Stream.Write(binary.BigEndian.AppendUint64(nil, n))
}

// typed is how much was typed before: an agent that echoes has printed as much.
func typed(a *connection.Alone) uint64 {
	var q wire.HandOverRequest
	_ = ssh.Unmarshal(a.Extra, &q)
	return q.Typed
}

// Whatever is in the agent's place and hands over for a terminal, the person types and reads on through the
// channel, and the service holds nothing in the end.
func TestAgentsThatHandOverNoTerminal(t *testing.T) {
	t.Parallel()
	for name, act := range map[string]func(t *testing.T, a *connection.Alone, master, slave *os.File){
		"it refuses":             func(_ *testing.T, a *connection.Alone, _, _ *os.File) { _ = a.Reject(ssh.ConnectionFailed, "no") },
		"it knows nothing of it": func(_ *testing.T, a *connection.Alone, _, _ *os.File) { _ = a.Reject(ssh.UnknownChannelType, "no") },
		"it ends":                func(_ *testing.T, a *connection.Alone, _, _ *os.File) { a.Stream.Close() },
		"it says nothing":        func(_ *testing.T, a *connection.Alone, _, _ *os.File) { _, _ = a.Stream.Read(make([]byte, 1)) },
		"it grants nothing":      func(_ *testing.T, a *connection.Alone, _, _ *os.File) { _ = a.Grant() },
		"the program's end": func(t *testing.T, a *connection.Alone, _, slave *os.File) {
			grantBoth(a, slave, bothWays(t))
			count(a, 0)
		},
		"two terminals": func(_ *testing.T, a *connection.Alone, master, _ *os.File) { grantBoth(a, master, master); count(a, 0) },
		"without a word": func(t *testing.T, a *connection.Alone, master, _ *os.File) {
			grantBoth(a, master, bothWays(t))
			_, _ = a.Stream.Read(make([]byte, 1))
		},
		"and ends": func(t *testing.T, a *connection.Alone, master, _ *os.File) { grantBoth(a, master, bothWays(t)) },
		"after what never comes": func(t *testing.T, a *connection.Alone, master, _ *os.File) {
			grantBoth(a, master, bothWays(t))
			count(a, 1<<60)
			_, _ = a.Stream.Read(make([]byte, 1))
		},
		"after what was too much": func(t *testing.T, a *connection.Alone, master, _ *os.File) {
			grantBoth(a, master, bothWays(t))
			count(a, typed(a)-1)
			_, _ = a.Stream.Read(make([]byte, 1))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			key := linktest.Signer(t)
			master, slave, err := pty.Open()
			require.NoError(t, err)
			defer master.Close()
			defer slave.Close()
			asked := make(chan struct{}, 10)
			agent := linktest.Agent{
				Channels: func(c connection.NewChannel) {
					channel, requests, err := c.Accept()
					if err != nil {
						return
					}
					go func() {
						for r := range requests {
							_ = r.Reply(true, nil)
						}
					}()
					_, _ = io.Copy(channel, channel) // it echoes
					_ = channel.Close()
				},
				Alone: func(a *connection.Alone) {
					assert.Equal(t, wire.HandOver, a.Kind)
					asked <- struct{}{}
					act(t, a, master, slave)
				},
			}
			l, err := Open(t.Context(), agent.Private(t, key.PublicKey()), key)
			require.NoError(t, err)
			defer l.Quiet().Close()
			var room handed.Room
			l.Place = func() *handed.Place { return room.Enter(1) }
			l.Again = func(context.Context) (net.Conn, error) { return agent.Private(t, key.PublicKey()), nil }

			channel, requests, err := l.Conn.OpenChannel("session", nil)
			require.NoError(t, err)
			go connection.Discard(requests)
			_, err = channel.SendRequest("pty-req", true, nil)
			require.NoError(t, err)
			printed, print := io.Pipe()
			go func() {
				_, err := io.Copy(print, channel)
				print.CloseWithError(err)
			}()
			types := func(text string) {
				_, err := io.WriteString(channel, text)
				require.NoError(t, err)
				b := make([]byte, len(text))
				_, err = io.ReadFull(printed, b)
				require.NoError(t, err)
				assert.Equal(t, text, string(b))
			}
			types("ahoy") // it is printed from now on
			_, err = channel.SendRequest("shell", true, nil)
			require.NoError(t, err)
			types("hi")
			<-asked
			require.Eventually(t, func() bool { return room.Held() == 0 }, 20*time.Second, time.Millisecond)
			types("there")
			require.NoError(t, channel.CloseWrite())
			rest, err := io.ReadAll(printed)
			require.NoError(t, err)
			assert.Empty(t, rest)
		})
	}
}

// A terminal that comes to another end than a terminal does is not asked for again, and one that is given back
// is.
func TestWhichTerminalsAreAskedForAgain(t *testing.T) {
	for name, x := range map[string]struct {
		end   error
		again bool
	}{
		"the program has ended":       {fmt.Errorf("take what the terminal prints: %w", unix.EIO), true},
		"it is wanted there":          {os.ErrDeadlineExceeded, true},
		"it was given back":           {os.ErrClosed, true},
		"a kernel that cannot":        {fmt.Errorf("take what the terminal prints: %w", unix.EINVAL), false},
		"somebody else reads from it": {errors.New("look into the pipe, where others may read"), false},
	} {
		s := &session{}
		s.judge(x.end)
		assert.Equal(t, x.again, time.Now().After(s.next), name)
	}
}

// A program's output waits for a person's connection as long as somebody seems to be there.
func TestAKeeper(t *testing.T) {
	settled, stalled := make(chan bool, 100), make(chan bool, 1)
	k := keeper{settle: func() { settled <- true }, stalled: func() { stalled <- true }}
	for range 3 {
		k.begin()
		k.end()
		<-settled
	}
	k.begin()
	k.since.Store(time.Now().Add(-stalledAfter).UnixNano())
	<-stalled
	assert.Empty(t, settled)
}
