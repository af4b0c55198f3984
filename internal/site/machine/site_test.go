package machine

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/fault"
	"domicile/internal/judge"
	"domicile/internal/plan"
	"domicile/internal/site"
	"domicile/internal/site/engine"
)

// yard is a maker whose machines are words.
type yard struct {
	Maker // what is not tried here
	made  map[string]*Machine
	deaf  error // why no memory can be kept

	removed []string // spares
}

var spring = time.Date(2026, 3, 20, 12, 0, 0, 0, time.UTC)

func (y *yard) Spares(context.Context) ([]Spare, error) {
	return []Spare{{Name: "t1", Bytes: 7, Used: spring}}, nil
}

func (y *yard) RemoveSpare(_ context.Context, name string) error {
	y.removed = append(y.removed, name)
	return nil
}

func (y *yard) Examine(context.Context) (Facts, error) {
	return Facts{Processors: 8, Memory: 32 << 30}, nil
}

func (y *yard) Find(_ context.Context, id string) (Machine, bool, error) {
	m := y.made[id]
	if m == nil {
		return Machine{}, false, nil
	}
	return *m, true, nil
}

func (y *yard) List(ctx context.Context) (list []Machine, err error) {
	for _, m := range y.made {
		list = append(list, *m)
	}
	return list, nil
}

func (y *yard) Mark(_ context.Context, id, mark string) error { y.made[id].Mark = mark; return nil }

func (y *yard) Suspend(_ context.Context, id string) error {
	if y.deaf != nil {
		return y.deaf
	}
	y.made[id].State = Asleep
	return nil
}

func (y *yard) Stop(_ context.Context, id string) error { y.made[id].State = Off; return nil }

func (y *yard) Remove(_ context.Context, id string) error { delete(y.made, id); return nil }

func (y *yard) Dial(context.Context, string, string) (net.Conn, error) {
	return nil, fault.Transient(nil, "machine-silent", "", "it does not answer")
}

func at(t *testing.T, y *yard) *Site {
	t.Helper()
	agent := filepath.Join(t.TempDir(), "agent")
	require.NoError(t, os.WriteFile(agent, []byte("agent"), 0o755))
	return New(Options{Kind: site.VM, Maker: y, Engine: engine.Options{Agents: func(string) string { return agent }}, Usual: Shape{Processors: 2, Memory: 2 << 30, Disk: 32 << 30}})
}

// Machines are listed without being woken, and one that does not answer is told as it was.
func TestMachinesAreNotWokenToBeListed(t *testing.T) {
	y := &yard{made: map[string]*Machine{
		"w1": {ID: "w1", State: Asleep, Mark: `{"digest": "one"}`},
		"w2": {ID: "w2", State: Running, Mark: `{"digest": "two", "running": true}`},
		"w3": {ID: "w3", State: Off, Mark: `{"digest": "three", "running": true}`},
		"w4": {ID: "w4", State: Off},
	}}
	s := at(t, y)
	list, err := s.List(t.Context())
	require.NoError(t, err)
	assert.ElementsMatch(t, []site.Instance{
		{Workspace: "w1", Digest: "one"},
		{Workspace: "w2", Digest: "two", Running: true},
		{Workspace: "w3", Digest: "three", Ended: "its machine ended", Fell: true},
	}, list, "in the last nothing was made yet")
	assert.Equal(t, Asleep, y.made["w1"].State)
	_, _, err = s.Find(t.Context(), "w2")
	assert.True(t, fault.IsTransient(err), "who asks for one is told that it does not answer: %v", err)
	left, err := s.Leftovers(t.Context(), func(context.Context) ([]string, error) { return []string{"w1", "w2", "w4"}, nil })
	require.NoError(t, err)
	assert.Equal(t, []site.Leftover{{Kind: "machine", Name: "w3", Why: "its workspace was removed"},
		{Kind: "template", Name: "t1", Bytes: 7, Why: "no machine comes from it", Again: true, Made: spring}}, left, "one is made again where it is wanted")
	for _, l := range left {
		require.NoError(t, s.RemoveLeftover(t.Context(), l))
	}
	assert.NotContains(t, y.made, "w3")
	assert.Equal(t, []string{"t1"}, y.removed)
	assert.Error(t, s.RemoveLeftover(t.Context(), site.Leftover{Kind: "volume", Name: "w1"}), "there is none here")
}

// A machine whose memory cannot be kept is turned off, and its files stay. Where none ever is, that
// is nothing to tell.
func TestAMachineThatCannotSleep(t *testing.T) {
	for why, tells := range map[error]int{errors.New("the disk is full"): 1, ErrForgets: 0} {
		y := &yard{made: map[string]*Machine{"w1": {ID: "w1", State: Running, Mark: `{"digest": "one", "running": true}`}}, deaf: why}
		s := at(t, y)
		told := 0
		s.o.Say = func(string, ...any) { told++ }
		require.NoError(t, s.Stop(t.Context(), "w1", 0, true))
		assert.Equal(t, Off, y.made["w1"].State)
		assert.Equal(t, tells, told, why)
		i, found, err := s.Find(t.Context(), "w1")
		require.NoError(t, err)
		assert.True(t, found)
		assert.Equal(t, site.Instance{Workspace: "w1", Digest: "one"}, i)
		require.NoError(t, s.Stop(t.Context(), "w404", 0, true), "one that is not there is stopped")
	}
}

// What is beside a workspace in a machine that sleeps is told without waking it.
func TestServicesOfAMachineThatSleeps(t *testing.T) {
	y := &yard{made: map[string]*Machine{"w1": {ID: "w1", State: Asleep, Mark: `{"digest": "one", "services": ["db", "tide"]}`}}}
	s := at(t, y)
	list, err := s.Services(t.Context(), "w1")
	require.NoError(t, err)
	assert.Equal(t, []site.Service{{Name: "db", Started: true}, {Name: "tide", Started: true}}, list)
	worked, err := s.Worked(t.Context(), "w1")
	require.NoError(t, err)
	assert.Zero(t, worked)
	assert.Equal(t, "machine-off", fault.Code(s.ServiceLog(t.Context(), "w1", "db", 9, io.Discard)))
	list, err = s.Services(t.Context(), "w404")
	require.NoError(t, err)
	assert.Empty(t, list)
	none, err := plan.JudgeNetworks(nil, judge.Subject{})
	require.NoError(t, err)
	require.NoError(t, s.EnsureNetworks(t.Context(), "w1", none), "there is nothing to make, and nobody to wake")
	assert.Equal(t, Asleep, y.made["w1"].State)
}

// A machine has what its container may take, and what its engine takes beside it.
func TestShapes(t *testing.T) {
	s := at(t, &yard{})
	host := Facts{Processors: 8, Memory: 32 << 30}
	for _, c := range []struct {
		cpus          float64
		memory, least int64
		processors    int
		megabytes     int64
	}{
		{0, 0, 0, 2, 2048},
		{0.5, 1 << 30, 0, 1, 1536},
		{4, 8 << 30, 0, 4, 8704},
		{0, 0, 6 << 30, 2, 6656},
		{1000, 1 << 60, 0, 8, 16 << 10}, // whatever a definition asks for
		{0, 0, 20 << 30, 2, 20992},      // what it needs was compared with the host before
	} {
		shape := s.shape(plan.Container{Settings: plan.Settings{CPUs: c.cpus, Memory: c.memory}, LeastMemory: c.least}, host)
		assert.Equal(t, c.processors, shape.Processors)
		assert.Equal(t, c.megabytes, shape.Memory>>20)
	}
}

// Without an engine that pulls, a place of machines can do nothing, and says why.
func TestMachinesWithoutAnEngine(t *testing.T) {
	_, err := at(t, &yard{}).HasImage(t.Context(), judge.Image{})
	assert.Equal(t, "site-cannot", fault.Code(err))
}

// A helper is in the machine of its workspace, which is not woken to tell how it is, and goes on
// when the helper is stopped.
func TestHelpersInAMachine(t *testing.T) {
	y := &yard{made: map[string]*Machine{
		"w1": {ID: "w1", State: Asleep, Mark: `{"digest": "one", "helpers": {"w7": {"digest": "mate", "running": true}, "w8": {"digest": "cook"}}}`},
		"w2": {ID: "w2", State: Running, Mark: `{"digest": "two", "running": true, "helpers": {"w9": {"digest": "pilot", "running": true}}}`},
	}}
	s := at(t, y)
	i, found, err := s.Find(t.Context(), "w7")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, site.Instance{Workspace: "w7", Digest: "mate", Ended: "its machine ended", Fell: true}, i)
	_, found, err = s.Find(t.Context(), "w404")
	require.NoError(t, err)
	assert.False(t, found)
	list, err := s.List(t.Context())
	require.NoError(t, err)
	assert.ElementsMatch(t, []site.Instance{
		{Workspace: "w1", Digest: "one"}, i, {Workspace: "w8", Digest: "cook"},
		{Workspace: "w2", Digest: "two", Running: true}, {Workspace: "w9", Digest: "pilot", Running: true},
	}, list, "of the machine that is silent, what is known")

	require.NoError(t, s.Stop(t.Context(), "w7", time.Second, false))
	i, _, err = s.Find(t.Context(), "w7")
	require.NoError(t, err)
	assert.False(t, i.Fell, "it was stopped")
	assert.Equal(t, Asleep, y.made["w1"].State)
	left, err := s.Leftovers(t.Context(), func(context.Context) ([]string, error) { return []string{"w1", "w2"}, nil })
	require.NoError(t, err)
	for _, l := range left {
		assert.NotEqual(t, "machine", l.Kind, "%s", l.Name)
	}
	require.NoError(t, s.Remove(t.Context(), "w1"))
	_, found, err = s.Find(t.Context(), "w8")
	require.NoError(t, err)
	assert.False(t, found, "it went with the machine")
	require.NoError(t, s.Remove(t.Context(), "w8"), "what is not there is no error")
}
