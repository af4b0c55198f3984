package agentlink

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
	"domicile/internal/connection"
	"domicile/internal/fault"
)

// says is an agent that says this of what listens.
func says(text string) agent {
	return agent{Channels: func(c connection.NewChannel) {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go connection.Discard(requests)
		_, _ = io.WriteString(channel, text)
		_ = channel.Close()
	}}
}

// Whoever is root inside can say anything of its ports: what cannot be is left out, what is too long
// is cut, and nothing of it steers a terminal.
func TestWhatAnAgentSaysOfItsPorts(t *testing.T) {
	many := strings.Repeat(`{"network":"tcp","port":1},`, wire.MostListeners+5)
	for name, c := range map[string]struct {
		said  string
		check func(*testing.T, wire.ListeningReport)
	}{
		"a program": {`{"listeners":[{"network":"tcp","port":8080,"addresses":["127.0.0.1","::"],"user":"root","process":"node","command":"node server.js"}]}`, func(t *testing.T, r wire.ListeningReport) {
			assert.Equal(t, []wire.Listener{{Network: "tcp", Port: 8080, Addresses: []string{"127.0.0.1", "::"}, User: "root", Process: "node", Command: "node server.js"}}, r.Listeners)
		}},
		"ports that are none": {`{"listeners":[{"network":"tcp","port":0},{"network":"tcp","port":70000},{"network":"tcp","port":-1},{"network":"ip","port":8}]}`, func(t *testing.T, r wire.ListeningReport) { assert.Empty(t, r.Listeners) }},
		"addresses that are none": {`{"listeners":[{"network":"tcp","port":1,"addresses":["here","127.0.0.1","../x"]}]}`, func(t *testing.T, r wire.ListeningReport) {
			assert.Equal(t, []string{"127.0.0.1"}, r.Listeners[0].Addresses)
		}},
		"what steers a terminal": {`{"listeners":[{"network":"tcp","port":1,"process":"a\u001b]0;x\u0007","command":"` + strings.Repeat("x", 9000) + `"}]}`, func(t *testing.T, r wire.ListeningReport) {
			assert.Equal(t, "a ]0;x ", r.Listeners[0].Process)
			assert.Len(t, []rune(r.Listeners[0].Command), longestLine)
		}},
		"too many": {`{"listeners":[` + many + `{"network":"tcp","port":1}]}`, func(t *testing.T, r wire.ListeningReport) {
			assert.Len(t, r.Listeners, wire.MostListeners)
			assert.True(t, r.More)
		}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				var got []wire.ListeningReport
				err := says(c.said+"\n").linked(t).Listening(t.Context(), func(r wire.ListeningReport) { got = append(got, r) })
				assert.True(t, fault.IsTransient(err), "%v", err)
				require.Len(t, got, 1)
				c.check(t, got[0])
			})
		})
	}
	t.Run("no JSON", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			err := says("all is well\n").linked(t).Listening(t.Context(), func(wire.ListeningReport) { t.Error("a report") })
			assert.ErrorContains(t, err, "cannot be read")
		})
	})
	t.Run("a line without end", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			err := says(strings.Repeat(" ", longestReport+1)).linked(t).Listening(t.Context(), func(wire.ListeningReport) { t.Error("a report") })
			assert.True(t, fault.IsTransient(err), "%v", err)
		})
	})
	t.Run("one after the other, without end", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 10*reportsApart)
			defer cancel()
			n := 0
			err := says(strings.Repeat(fmt.Sprintln(`{"listeners":[]}`), 500)).linked(t).Listening(ctx, func(wire.ListeningReport) { n++ })
			assert.ErrorIs(t, err, context.DeadlineExceeded)
			assert.LessOrEqual(t, n, 11)
		})
	})
}
