package machine

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/site/engine"
)

// Machines are not kept waiting by an engine of the host that takes connections and says nothing.
func TestAnEngineOfTheHostThatIsSilent(t *testing.T) {
	program := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(program, []byte("an agent"), 0o755))
	var asked atomic.Int32
	e, err := engine.New(engine.Options{Name: "unix:///silent", Secret: []byte("tide"), Agents: func(string) string { return program }, Dial: func(context.Context) (net.Conn, error) {
		asked.Add(1)
		near, far := net.Pipe()
		t.Cleanup(func() { near.Close(); far.Close() })
		return near, nil
	}})
	require.NoError(t, err)
	s := New(Options{Maker: &yard{}, Images: func() *engine.Site { return e }})
	assert.Empty(t, s.lostOutlets(t.Context(), []Machine{{ID: "w1", State: Asleep}}))
	assert.Zero(t, asked.Load(), "where none runs, nobody is asked")
	assert.Empty(t, s.lostOutlets(t.Context(), []Machine{{ID: "w1", State: Running}}))
	assert.Positive(t, asked.Load())
}

// An engine that ends stops what it runs first: only what has ended for a while has ended for good.
func TestAWayOutThatHasEndedForGood(t *testing.T) {
	s := New(Options{Maker: &yard{}})
	at := func(seconds time.Duration) time.Time { return spring.Add(seconds * time.Second) }
	assert.Empty(t, s.lostForGood([]string{"w1"}, at(0)))
	assert.Empty(t, s.lostForGood([]string{"w1", "w2"}, at(19)))
	assert.Equal(t, []string{"w1"}, s.lostForGood([]string{"w1", "w2"}, at(20)))
	assert.Empty(t, s.lostForGood(nil, at(21)), "it has another one, or the engine is away")
	assert.Empty(t, s.lostForGood([]string{"w1", "w2"}, at(60)), "and all begins anew")
	assert.Equal(t, []string{"w1", "w2"}, s.lostForGood([]string{"w1", "w2"}, at(80)))
}
