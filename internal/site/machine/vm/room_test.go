package vm

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"domicile/internal/channel"
	"domicile/internal/fault"
	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// pretend puts a machine's folder there, and a process that stands for a machine's where it runs.
func pretend(t *testing.T, m *Maker, id string, shape machine.Shape, running bool) string {
	t.Helper()
	folder := m.in("machines", id)
	require.NoError(t, os.MkdirAll(folder, 0o711))
	require.NoError(t, writeJSON(filepath.Join(folder, recordName), record{Shape: shape}))
	if running {
		c := exec.Command("sleep", "60")
		c.Args, c.Dir = []string{process.Program, "60"}, folder
		require.NoError(t, c.Start())
		t.Cleanup(func() { _ = c.Process.Kill() })
		go func() { _ = c.Wait() }()
		require.NoError(t, os.WriteFile(filepath.Join(folder, process.NumberFile), fmt.Append(nil, c.Process.Pid), 0o600))
	}
	return folder
}

// A machine does not run where the host has not the memory for it beside those that run; those
// that sleep take none.
func TestAHostWithoutRoom(t *testing.T) {
	m := newMaker(t, Options{})
	all, err := hostMemory()
	require.NoError(t, err)
	half := machine.Shape{Processors: 1, Memory: all / 2}
	pretend(t, m, "w1", half, true)
	asleep := pretend(t, m, "w2", half, false)
	require.NoError(t, os.WriteFile(filepath.Join(asleep, memoryName), []byte("kept"), 0o600))
	pretend(t, m, "w3", machine.Shape{Processors: 1, Memory: all / 4}, false)
	done, err := m.roomFor(t.Context(), "w3", machine.Shape{Memory: all / 4})
	require.NoError(t, err)
	_, err = m.Start(t.Context(), "w2")
	assert.Equal(t, "no-room", fault.Code(err), "%v", err)
	assert.NotEmpty(t, fault.Remedy(err))
	assert.FileExists(t, filepath.Join(asleep, memoryName), "it sleeps on")
	done()
	list, err := m.List(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(t, []string{machine.Running, machine.Asleep}, []string{list[0].State, list[1].State})
	assert.Positive(t, list[1].Bytes)
	require.NoError(t, m.Remove(t.Context(), "w1"))
	done, err = m.roomFor(t.Context(), "w2", half)
	require.NoError(t, err, "there is room now")
	done()

	// One that another service of this host is about to start counts.
	other, err := New(Options{Folder: m.o.Folder, Image: imageFolder})
	require.NoError(t, err)
	done, err = other.roomFor(t.Context(), "w2", half)
	require.NoError(t, err)
	_, err = m.roomFor(t.Context(), "w3", half)
	assert.Equal(t, "no-room", fault.Code(err), "%v", err)
	done()
	done, err = m.roomFor(t.Context(), "w3", half)
	require.NoError(t, err)
	done()
}

// A machine gets another size when it is asked for with one: what is kept of its memory is of the
// earlier.
func TestAnotherShape(t *testing.T) {
	m := newMaker(t, Options{})
	folder := pretend(t, m, "w1", small, false)
	kept := filepath.Join(folder, memoryName)
	require.NoError(t, os.WriteFile(kept, []byte("kept"), 0o600))
	require.NoError(t, m.Ensure(t.Context(), "w1", small, nil))
	assert.FileExists(t, kept, "it is the same")
	larger := small
	larger.Processors, larger.Base = 2, "another image"
	require.NoError(t, m.Ensure(t.Context(), "w1", larger, nil))
	assert.NoFileExists(t, kept)
	v, found, err := m.Find(t.Context(), "w1")
	require.NoError(t, err)
	require.True(t, found)
	assert.Equal(t, 2, v.Shape.Processors)
	assert.Empty(t, v.Shape.Base, "what it begins with stays")
	_, r, err := m.read("w1")
	require.NoError(t, err)
	ways := m.ways(folder, r)
	require.Len(t, ways, 1)
	assert.Equal(t, Booted, ways[0].how)
}

// A template goes when no machine comes from it, and only what is one.
func TestTemplatesThatNoMachineComesFrom(t *testing.T) {
	m := newMaker(t, Options{})
	for _, name := range []string{"t0000000000000001", "t0000000000000002"} {
		require.NoError(t, os.MkdirAll(m.in("templates", name), 0o711))
		require.NoError(t, os.WriteFile(m.in("templates", name, stateName), []byte("state"), 0o600))
	}
	require.NoError(t, os.MkdirAll(m.in("templates", "t0000000000000003"), 0o711)) // being made
	folder := pretend(t, m, "w1", small, false)
	require.NoError(t, writeJSON(filepath.Join(folder, recordName), record{Shape: small, Template: "t0000000000000001"}))
	spares, err := m.Spares(t.Context())
	require.NoError(t, err)
	require.Len(t, spares, 1)
	assert.Equal(t, "t0000000000000002", spares[0].Name)
	assert.Positive(t, spares[0].Bytes)
	assert.WithinDuration(t, time.Now(), spares[0].Used, time.Minute)
	assert.Equal(t, "site-in-use", fault.Code(m.RemoveSpare(t.Context(), "t0000000000000001")))
	for _, bad := range []string{"", ".", "../machines", "machines/w1", "t1"} {
		assert.Equal(t, "bad-id", fault.Code(m.RemoveSpare(t.Context(), bad)), bad)
	}
	require.NoError(t, m.RemoveSpare(t.Context(), "t0000000000000002"))
	assert.NoDirExists(t, m.in("templates", "t0000000000000002"))
	assert.DirExists(t, m.in("templates", "t0000000000000001"))
}

// No name of somebody else's becomes a folder's.
func TestIdsAreJudged(t *testing.T) {
	m := newMaker(t, Options{})
	for _, bad := range []string{"", ".", "..", "../w1", "w1/..", "W1", "w", "1", "w1x", "w1\x00"} {
		for what, err := range map[string]error{"ensure": m.Ensure(t.Context(), bad, small, nil), "remove": m.Remove(t.Context(), bad), "stop": m.Stop(t.Context(), bad), "suspend": m.Suspend(t.Context(), bad), "mark": m.Mark(t.Context(), bad, "x")} {
			assert.Equal(t, "bad-id", fault.Code(err), "%s %q", what, bad)
		}
		_, err := m.Start(t.Context(), bad)
		assert.Equal(t, "bad-id", fault.Code(err))
		_, err = m.Dial(t.Context(), bad, channel.ToEngine)
		assert.Equal(t, "bad-id", fault.Code(err))
	}
}
