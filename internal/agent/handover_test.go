package agent_test

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"domicile/internal/agent/wire"
	"domicile/internal/agentlink"
	"domicile/internal/connection"
)

// seat is where a person sits: a session whose output is printed as it comes.
type seat struct {
	t       *testing.T
	channel connection.Channel
	printed chan []byte
	all     bytes.Buffer
	status  chan uint32
}

// sit opens a terminal as the gateway does; "": a shell.
func sit(t *testing.T, link *agentlink.Link, name, command string) *seat {
	t.Helper()
	channel, requests, err := link.Conn.OpenChannel("session", nil)
	require.NoError(t, err)
	s := &seat{t: t, channel: channel, printed: make(chan []byte), status: make(chan uint32, 1)}
	t.Cleanup(func() { channel.Close() })
	ask := func(what string, payload any) {
		var b []byte
		if payload != nil {
			b = ssh.Marshal(payload)
		}
		ok, err := channel.SendRequest(what, true, b)
		require.NoError(t, err)
		require.True(t, ok, what)
	}
	ask("env", struct{ Name, Value string }{wire.TerminalName, name})
	ask("pty-req", struct {
		Term       string
		C, R, W, H uint32
		Modes      string
	}{"dumb", 80, 24, 0, 0, "\x00"})
	go func() {
		for r := range requests {
			var status struct{ Status uint32 }
			if r.Type == "exit-status" && ssh.Unmarshal(r.Payload, &status) == nil {
				s.status <- status.Status
			}
			_ = r.Reply(false, nil)
		}
	}()
	go func() {
		defer close(s.printed)
		_, _ = io.Copy(printer{s.printed}, channel)
	}()
	if command == "" {
		ask("shell", nil)
	} else {
		ask("exec", struct{ Command string }{command})
	}
	return s
}

type printer struct{ to chan []byte }

func (p printer) Write(b []byte) (int, error) {
	p.to <- bytes.Clone(b)
	return len(b), nil
}

// types types, and reads until a mark comes.
func (s *seat) types(text, mark string) string {
	s.t.Helper()
	from := s.all.Len()
	if text != "" {
		_, err := io.WriteString(s.channel, text)
		require.NoError(s.t, err)
	}
	for !strings.Contains(s.all.String()[from:], mark) {
		select {
		case b, open := <-s.printed:
			require.True(s.t, open, "it ended after %q", s.all.String()[from:])
			s.all.Write(b)
		case <-time.After(20 * time.Second):
			require.Fail(s.t, "it does not come", "%q after %q", mark, s.all.String()[from:])
		}
	}
	return s.all.String()[from:]
}

// rest reads to the end.
func (s *seat) rest() string {
	s.t.Helper()
	from := s.all.Len()
	for b := range s.printed {
		s.all.Write(b)
	}
	return s.all.String()[from:]
}

// handedOver waits until the service holds so many things.
func handedOver(t *testing.T, n int) {
	t.Helper()
	require.Eventually(t, func() bool { return room.Held() == n }, 20*time.Second, time.Millisecond)
}

// reads is a program that says what it is told, line by line, without an echo by the terminal.
const reads = `stty -echo; echo ready; while read -r line; do echo "heard $line"; test "$line" = end && exit 7; done`

// The terminal in which somebody types is the service's, and all else of it stays as it is: what was said
// before, its size, signals, what the workspace tells it, and how its program ended.
func TestATerminalIsHandedOver(t *testing.T) {
	link := configured(t).Quiet()
	s := sit(t, link, "", reads)
	s.types("", "ready")
	s.types("one\n", "heard one")
	handedOver(t, 1)
	for i := range 50 {
		s.types(fmt.Sprintf("%d\n", i), fmt.Sprintf("heard %d\r\n", i))
	}
	require.Equal(t, 1, room.Held())

	require.NoError(t, link.Tell(t.Context(), "the tide turns"))
	s.types("", "\r\nthe tide turns\r\n")
	handedOver(t, 0)
	s.types("two\n", "heard two")

	s.types("end\n", "heard end\r\n")
	assert.Empty(t, s.rest())
	assert.Equal(t, uint32(7), <-s.status)
	handedOver(t, 0)

	var whole strings.Builder
	whole.WriteString("ready\r\nheard one\r\n")
	for i := range 50 {
		fmt.Fprintf(&whole, "heard %d\r\n", i)
	}
	whole.WriteString("\r\nthe tide turns\r\nheard two\r\nheard end\r\n")
	assert.Equal(t, whole.String(), s.all.String(), "nothing twice, nothing missing, in order")
}

// A program that ends by a key, and has said much just then, has said all of it.
func TestTheEndOfATerminalThatWasHandedOver(t *testing.T) {
	link := configured(t).Quiet()
	s := sit(t, link, "", `stty -echo; echo ready; read a; echo first; read b; seq 100000 120000; exit 3`)
	s.types("", "ready")
	s.types("a\n", "first")
	handedOver(t, 1)
	_, err := io.WriteString(s.channel, "b\n")
	require.NoError(t, err)
	lines := strings.Fields(s.rest())
	require.Len(t, lines, 20001)
	assert.Equal(t, "120000", lines[20000])
	assert.Equal(t, uint32(3), <-s.status)
	handedOver(t, 0)
}

// Who comes back to a terminal, after the connection broke or beside the first one, finds all that was said.
func TestComingBackToATerminalThatWasHandedOver(t *testing.T) {
	first := configured(t).Quiet()
	s := sit(t, first, "pier", reads)
	s.types("", "ready")
	s.types("one\n", "heard one")
	handedOver(t, 1)
	s.types("two\n", "heard two")

	second := connect(t).Quiet()
	beside := sit(t, second, "pier", "")
	beside.types("", "heard two")
	beside.types("three\n", "heard three") // which wants the terminal back
	s.types("", "heard three")
	s.types("four\n", "heard four")
	beside.types("", "heard four")

	require.NoError(t, first.Close())
	beside.types("five\n", "heard five")
	require.NoError(t, second.Close())
	handedOver(t, 0)
	third := connect(t).Quiet()
	again := sit(t, third, "pier", "")
	again.types("", "heard five\r\n")
	assert.Equal(t, "ready\r\nheard one\r\nheard two\r\nheard three\r\nheard four\r\nheard five\r\n", again.all.String())
	again.types("end\n", "heard end")
	assert.Equal(t, uint32(7), <-again.status)
}

// A program that prints without end while others type is read whole, whoever holds the terminal.
func TestATerminalChangesHandsWhileMuchIsPrinted(t *testing.T) {
	link := configured(t).Quiet()
	s := sit(t, link, "", `stty -echo raw; echo ready; (seq 1000000 1060000; echo over) & dd bs=1 count=3 of=/dev/null 2>/dev/null; wait`)
	s.types("", "ready")
	var typing sync.WaitGroup
	typing.Go(func() {
		for range 3 {
			_, err := io.WriteString(s.channel, "k")
			assert.NoError(t, err)
			assert.NoError(t, link.Tell(t.Context(), "")) // which wants the terminal back
		}
	})
	s.types("", "over")
	typing.Wait()
	text := s.all.String() + s.rest()
	var numbers []string
	for _, word := range strings.Fields(text) {
		if len(word) == 7 {
			numbers = append(numbers, word)
		}
	}
	joined := strings.Join(strings.Fields(text), "")
	for i, at := 1000000, 0; i <= 1060000; i++ {
		next := strings.Index(joined[at:], fmt.Sprint(i))
		require.GreaterOrEqual(t, next, 0, "%d is missing", i)
		require.LessOrEqual(t, next, 12, "before %d comes what is not from there", i)
		at += next + 7
	}
	assert.NotEmpty(t, numbers)
	handedOver(t, 0)
}
