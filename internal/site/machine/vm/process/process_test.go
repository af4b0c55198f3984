package process

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// machine starts a process that stands for a machine's, in a folder of its own.
func machine(t *testing.T, of, name string) (folder string) {
	t.Helper()
	folder = filepath.Join(of, "machines", name)
	require.NoError(t, os.MkdirAll(folder, 0o711))
	c := exec.Command("sleep", "60")
	c.Args, c.Dir = []string{Program, "60"}, folder
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill() })
	go func() { _ = c.Wait() }()
	require.NoError(t, os.WriteFile(filepath.Join(folder, NumberFile), fmt.Appendln(nil, c.Process.Pid), 0o600))
	return folder
}

// Whether a machine runs is told by its own process, not by a number that another has by now.
func TestWhetherAMachineRuns(t *testing.T) {
	folder := t.TempDir()
	assert.False(t, Runs(folder))
	other := machine(t, t.TempDir(), "w2")
	number, err := os.ReadFile(filepath.Join(other, NumberFile))
	require.NoError(t, err)
	for text, why := range map[string]string{fmt.Sprint(os.Getpid()): "another program", "1": "nobody's", "-1": "everybody's", "1073741824": "it has ended", "": "none", "w1": "no number", string(number): "another machine's"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, NumberFile), []byte(text), 0o600))
		assert.False(t, Runs(folder), why)
		require.NoError(t, End(t.Context(), folder), "and is not ended")
	}
	assert.True(t, Runs(other))
}

func TestAllAreEnded(t *testing.T) {
	of := t.TempDir()
	folders := []string{machine(t, of, "w1"), machine(t, of, "w2")}
	elsewhere := machine(t, t.TempDir(), "w3")
	require.NoError(t, EndAll(t.Context(), of))
	for _, f := range folders {
		assert.False(t, Runs(f))
		assert.DirExists(t, f)
	}
	assert.True(t, Runs(elsewhere))
	require.NoError(t, EndAll(t.Context(), filepath.Join(of, "nowhere")))
}
