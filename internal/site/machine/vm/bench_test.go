package vm

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"domicile/internal/site/machine"
	"domicile/internal/site/machine/vm/process"
)

// Ratios of machines against QEMU alone, as somebody would call it by hand: without a number that
// owns nothing, without a network of its own, without being told the time and fresh random numbers.
//
//	go test ./internal/site/machine/vm -run '^$' -bench . -benchtime 5x

// sides are the times that both sides took, by turns.
type sides struct{ ours, raw []time.Duration }

func (s *sides) report(b *testing.B) {
	b.Helper()
	median := func(list []time.Duration) float64 {
		return slices.Sorted(slices.Values(list))[len(list)/2].Seconds()
	}
	b.ReportMetric(0, "ns/op") // the sum of both says nothing
	b.ReportMetric(median(s.ours)*1000, "ours-ms")
	b.ReportMetric(median(s.raw)*1000, "raw-ms")
	b.ReportMetric(median(s.ours)/median(s.raw), "ratio")
}

func took(what func()) time.Duration {
	began := time.Now()
	what()
	return time.Since(began)
}

// byHand is a machine that QEMU alone runs.
type byHand struct {
	b       *testing.B
	m       *Maker
	folder  string
	process *exec.Cmd
}

// start starts QEMU with the arguments that the maker has, without what keeps it apart.
func (h *byHand) start(p launching, more ...string) {
	a, err := h.m.accelerator(h.b.Context())
	require.NoError(h.b, err)
	args := h.m.arguments(p, a)
	for _, name := range []string{"-runas", "-sandbox"} {
		at := slices.Index(args, name)
		args = slices.Delete(args, at, at+2)
	}
	_ = os.Remove(filepath.Join(h.folder, monitorName))
	h.process = exec.Command(process.Program, append(args, more...)...)
	h.process.Dir, h.process.Stderr = h.folder, os.Stderr
	require.NoError(h.b, h.process.Start())
	require.True(h.b, waitUntil(h.b.Context(), launchLimit, func() bool { return listens(h.folder) }))
}

// load gives it a state, and waits until its engine answers.
func (h *byHand) load(shared bool, from string) {
	ctx := h.b.Context()
	h.says(func(ask func(string, any)) {
		ask("migrate-set-capabilities", capability(shared))
		ask("migrate-incoming", map[string]any{"uri": "exec:" + from})
	})
	require.NoError(h.b, monitor(ctx, h.folder, func(ask func(string, any) (json.RawMessage, error)) error { return moved(ctx, ask) }))
	h.says(func(ask func(string, any)) { ask("cont", nothing) })
	line, err := openLine(ctx, h.folder)
	require.NoError(h.b, err)
	defer line.Close()
	for machine.Ping(ctx, line) != nil {
		require.NoError(h.b, ctx.Err())
	}
}

func (h *byHand) says(talk func(ask func(string, any))) {
	require.NoError(h.b, monitor(h.b.Context(), h.folder, func(ask func(string, any) (json.RawMessage, error)) error {
		talk(func(command string, arguments any) {
			_, err := ask(command, arguments)
			require.NoError(h.b, err)
		})
		return nil
	}))
}

func (h *byHand) end() {
	_ = h.process.Process.Kill()
	_ = h.process.Wait()
}

// clone makes a machine of a template's files.
func cloneByHand(b *testing.B, m *Maker, r record, folder string) *byHand {
	require.NoError(b, os.MkdirAll(folder, 0o755))
	for name, from := range r.Disks {
		out, err := exec.Command(diskProgram, "create", "-q", "-f", "qcow2", "-b", from, "-F", "qcow2", filepath.Join(folder, name)).CombinedOutput()
		require.NoError(b, err, string(out))
	}
	h := &byHand{b: b, m: m, folder: folder}
	h.start(launching{folder: folder, shape: r.Shape, disks: r.Disks, memory: clone, ram: m.in("templates", r.Template, ramName)}, "-incoming", "defer")
	h.load(true, "cat "+m.in("templates", r.Template, stateName))
	return h
}

// BenchmarkClone is a machine from its template until its engine answers, against a bare restore of
// the same template.
func BenchmarkClone(b *testing.B) {
	ctx, m := b.Context(), newMaker(b, Options{})
	require.NoError(b, m.Ensure(ctx, "w1", small, nil))
	_, r, err := m.read("w1")
	require.NoError(b, err)
	var s sides
	for n := 2; b.Loop(); n++ {
		id := fmt.Sprint("w", n)
		s.ours = append(s.ours, took(func() {
			require.NoError(b, m.Ensure(ctx, id, small, nil))
			how, err := m.Start(ctx, id)
			require.NoError(b, err)
			require.Equal(b, Cloned, how)
		}))
		require.NoError(b, m.Remove(ctx, id))
		var h *byHand
		s.raw = append(s.raw, took(func() { h = cloneByHand(b, m, r, filepath.Join(b.TempDir(), "m")) }))
		h.end()
	}
	s.report(b)
}

// BenchmarkSleepAndWake is a machine that sleeps and is woken until its engine answers, against
// QEMU alone, which writes its state through a packing program and reads it again.
func BenchmarkSleepAndWake(b *testing.B) {
	ctx, m := b.Context(), newMaker(b, Options{})
	require.NoError(b, m.Ensure(ctx, "w1", small, nil))
	_, err := m.Start(ctx, "w1")
	require.NoError(b, err)
	_, r, err := m.read("w1")
	require.NoError(b, err)
	h := cloneByHand(b, m, r, filepath.Join(b.TempDir(), "m"))
	defer func() { h.end() }()
	var s sides
	for b.Loop() {
		s.ours = append(s.ours, took(func() {
			require.NoError(b, m.Suspend(ctx, "w1"))
			how, err := m.Start(ctx, "w1")
			require.NoError(b, err)
			require.Equal(b, Resumed, how)
		}))
		s.raw = append(s.raw, took(func() {
			h.says(func(ask func(string, any)) {
				ask("stop", nothing)
				ask("migrate-set-capabilities", capability(false))
				ask("migrate-set-parameters", map[string]any{"max-bandwidth": int64(moveSpeed)})
				ask("migrate", map[string]any{"uri": "exec:zstd -q -1 > kept.zst"})
			})
			require.NoError(b, monitor(ctx, h.folder, func(ask func(string, any) (json.RawMessage, error)) error { return moved(ctx, ask) }))
			h.end()
			h.start(launching{folder: h.folder, shape: r.Shape, disks: r.Disks}, "-incoming", "defer")
			h.load(false, "zstd -q -dc kept.zst")
		}))
	}
	s.report(b)
}

// BenchmarkList is the list of two hundred machines, of which none runs, against reading their
// folders.
func BenchmarkList(b *testing.B) {
	ctx, m := b.Context(), newMaker(b, Options{})
	require.NoError(b, m.Ensure(ctx, "w1", small, nil))
	folder, _, err := m.read("w1")
	require.NoError(b, err)
	for n := 2; n <= 200; n++ {
		require.NoError(b, os.CopyFS(m.in("machines", fmt.Sprint("w", n)), os.DirFS(folder)))
	}
	var s sides
	for b.Loop() {
		s.ours = append(s.ours, took(func() {
			list, err := m.List(ctx)
			require.NoError(b, err)
			require.Len(b, list, 200)
		}))
		s.raw = append(s.raw, took(func() {
			require.NoError(b, filepath.WalkDir(m.in("machines"), func(path string, e fs.DirEntry, err error) error {
				if err != nil || e.IsDir() {
					return err
				}
				if _, err := e.Info(); err != nil || e.Name() != recordName {
					return err
				}
				_, err = os.ReadFile(path)
				return err
			}))
		}))
	}
	s.report(b)
}
