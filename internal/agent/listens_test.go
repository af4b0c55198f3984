package agent_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/agent/wire"
)

// listensFor is where a program of the tests listens, as somebody else's process.
const listensFor = "DOMICILE_TEST_LISTENS"

// TestListensForAnother is no test but that program.
func TestListensForAnother(t *testing.T) {
	at := os.Getenv(listensFor)
	if at == "" {
		return
	}
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	fmt.Println(l.Addr())
	forever, _, err := os.Pipe()
	require.NoError(t, err)
	_, _ = forever.Read(make([]byte, 1))
}

// A program that begins to listen inside is told of within a second, with who it is, and its end
// too; what the agent itself listens at for the person's other machine is not.
func TestProgramsThatListenAreToldOf(t *testing.T) {
	link := configured(t)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	reports, over := make(chan wire.ListeningReport, 100), make(chan error, 1)
	go func() { over <- link.Listening(ctx, func(r wire.ListeningReport) { reports <- r }) }()
	until := func(port int, there bool) wire.Listener {
		t.Helper()
		limit := time.After(10 * time.Second)
		for {
			select {
			case r := <-reports:
				i := slices.IndexFunc(r.Listeners, func(x wire.Listener) bool { return x.Port == port })
				if i >= 0 && there {
					return r.Listeners[i]
				}
				if i < 0 && !there {
					return wire.Listener{}
				}
			case <-limit:
				t.Fatalf("port %d: nothing was told", port)
			}
		}
	}
	until(0, false) // the first report

	own, err := net.Listen("tcp", "127.0.0.1:0") // this process is the agent
	require.NoError(t, err)
	defer own.Close()
	out, in := io.Pipe()
	ended := make(chan error, 1)
	taskCtx, stop := context.WithCancel(t.Context())
	go func() {
		ended <- configured(t).Task(taskCtx, wire.TaskRequest{Key: t.TempDir(), Args: []string{os.Args[0], "-test.run=^TestListensForAnother$"}, Env: map[string]string{listensFor: "127.0.0.1:0"}}, in)
	}()
	var host string
	_, err = fmt.Fscanln(out, &host)
	require.NoError(t, err)
	go func() { _, _ = io.Copy(io.Discard, out) }()
	_, text, err := net.SplitHostPort(host)
	require.NoError(t, err)
	var port int
	_, err = fmt.Sscan(text, &port)
	require.NoError(t, err)

	x := until(port, true)
	assert.Equal(t, "tcp", x.Network)
	assert.Equal(t, []string{"127.0.0.1"}, x.Addresses)
	assert.Equal(t, "agent.test", x.Process)
	assert.Contains(t, x.Command, "TestListensForAnother")
	assert.Equal(t, "root", x.User)
	assert.Positive(t, x.PID)
	process, err := os.FindProcess(x.PID)
	require.NoError(t, err)
	require.NoError(t, process.Kill())
	until(port, false)
	stop()
	<-ended
	cancel()
	assert.ErrorIs(t, <-over, context.Canceled)
}
