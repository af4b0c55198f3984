package vm

import (
	"context"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/channel"
)

// answering is a line to a machine that answers each stream by what it was told.
type answering func(stream net.Conn)

func (a answering) Dial(context.Context, string) (net.Conn, error) {
	ours, theirs := net.Pipe()
	go func() { defer theirs.Close(); a(theirs) }()
	return ours, nil
}
func (answering) Over() <-chan struct{} { return nil }
func (answering) Close()                {}

func TestAMachineIsWokenInTheFormThatItReads(t *testing.T) {
	ctx := t.Context()
	require.NoError(t, wake(ctx, answering(func(stream net.Conn) {
		w, err := channel.ReadWaking(stream)
		if assert.NoError(t, err) && assert.Equal(t, "machine-w7", w.Hostname) {
			_, _ = io.WriteString(stream, channel.Awake)
		}
	}), "machine-w7"))

	var told []string
	err := wake(ctx, answering(func(stream net.Conn) { // as before there was another form
		b := make([]byte, 4096)
		n, err := stream.Read(b)
		assert.NoError(t, err)
		told = append(told, string(b[:n]))
		if b[0] == '{' {
			_, _ = io.WriteString(stream, channel.Awake)
		}
	}), "machine-w7")
	require.NoError(t, err)
	require.Len(t, told, 2)
	assert.Regexp(t, `^{"time":"[^"]+","chance":"[A-Za-z0-9+/=]{88}","hostname":"machine-w7","slept":true}$`, told[1])

	err = wake(ctx, answering(func(stream net.Conn) {
		_, _ = stream.Read(make([]byte, 4096))
		_, _ = io.WriteString(stream, "set the clock: no\n")
	}), "machine-w7")
	assert.ErrorContains(t, err, "set the clock: no", "and what a machine cannot do is told")
}
